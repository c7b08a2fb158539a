import { join, relative } from "node:path"
import { fileURLToPath, pathToFileURL } from "node:url"
import { TestEnvironment } from "jest-environment-node"
import { executed, watchExecuted } from "./executed.mjs"
import { Recording } from "./recording.mjs"

const root = fileURLToPath(new URL("../..", import.meta.url))
const inside = pathToFileURL(join(root, process.env.WOBBET_BUILD ?? "dist/faults", "inside.js")).href

// Read when the build is loaded, here and by processes that the tests start.
process.env.NO_COLOR = "1"
process.env.WOBBET_FAULTS_HURRY ??= "50"

/** Lets tests start the built service in their own process: loaded outside Jest's sandbox, once for all files of a worker. */
export default class InsideEnvironment extends TestEnvironment {
  constructor(config, context) {
    super(config, context)
    const testFile = relative(root, context.testPath)
    this.executed = watchExecuted(testFile)
    if (process.env.WOBBET_RECORD) this.recording = new Recording(process.env.WOBBET_RECORD, testFile)
    this.global.process.env.WOBBET_EXECUTED = this.executed.elsewhere
    this.global.$executed = executed
    this.global.executed = this.executed
    this.global.loadInside = () => import(inside)
    this.global.importOutside = (name) => import(name)
    this.global.recording = this.recording
  }

  handleTestEvent(event) {
    this.recording?.hear(event)
  }

  async teardown() {
    this.executed.keep()
    this.recording?.end()
    await super.teardown()
  }
}
