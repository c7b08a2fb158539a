import { join } from "node:path"
import { fileURLToPath, pathToFileURL } from "node:url"
import { TestEnvironment } from "jest-environment-node"

const root = fileURLToPath(new URL("../..", import.meta.url))
const inside = pathToFileURL(join(root, process.env.WOBBET_BUILD ?? "dist/faults", "inside.js")).href

/** Lets tests start the built service in their own process: loaded outside Jest's sandbox, once for all files of a worker. */
export default class InsideEnvironment extends TestEnvironment {
  constructor(config, context) {
    super(config, context)
    // Read when the packages are loaded.
    process.env.NO_COLOR = "1"
    this.global.loadInside = () => import(inside)
  }
}
