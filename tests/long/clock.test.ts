import { writeFileSync } from "node:fs"
import { join } from "node:path"
import { pathToFileURL } from "node:url"
import {
  endAll,
  eventually,
  pause,
  placeFor,
  quiet,
  Stage,
  startProcess,
  startStandin,
  tempFolder,
} from "../support/harness.ts"
import { setKind } from "../support/kinds.ts"
import { quayBot } from "../support/quayBot.ts"

afterAll(endAll)

/** A clock of the process's own, so many milliseconds ahead of the machine's: read again and again from a file. */
const clock = `
import { readFileSync } from "node:fs"
const Real = Date
let ahead = 0
setInterval(() => (ahead = Number(readFileSync(process.env.TEST_CLOCK, "utf8")) || 0), 20).unref()
globalThis.Date = class extends Real {
  constructor(...given) {
    if (given.length > 0) super(...given)
    else super(Real.now() + ahead)
  }
  static now() {
    return Real.now() + ahead
  }
}
`

test("a reply in doubt that arrived is not said again by a service whose clock is ahead", async () => {
  const folder = tempFolder({ "clock.mjs": clock, ahead: "3600000" })
  const options = `--import=${pathToFileURL(join(folder, "clock.mjs")).href}`
  const where = await placeFor(quayBot)
  const env = { NODE_OPTIONS: options, TEST_CLOCK: join(folder, "ahead") }
  const service = await startProcess({ ...where, env })
  const slack = await setKind(service, "slack", { gather: 0 })
  const room = (slack.standin as unknown as { world: { channels: { id: string }[] } }).world.channels[0]!.id
  slack.standin.stage.faults.push({ kind: "drop", left: 1, seconds: 0 })
  await service.client.send({ to: room, channel: slack.key, text: "The 14:20 is late." })
  const said = () => slack.standin.stage.screen(room).filter(({ text }) => text.includes("14:20"))
  await eventually(
    async () => (await slack.messages({ direction: "out" })).items[0]?.status === "sent",
    "it to be sent",
  )
  await quiet(where.database)
  expect(said()).toHaveLength(1)
}, 60_000)

test("a clock that goes ahead an hour and comes back delays no reply", async () => {
  const standin = await startStandin()
  const folder = tempFolder({ "clock.mjs": clock, ahead: "0" })
  const file = join(folder, "ahead")
  const options = `--import=${pathToFileURL(join(folder, "clock.mjs")).href}`
  const where = await placeFor(quayBot)
  const service = await startProcess({ ...where, env: { NODE_OPTIONS: options, TEST_CLOCK: file } })
  const stage = await Stage.set(service, standin, { gather: "1s", pauseBetween: [0.1, 0.2] })
  const said: string[] = []
  for (const hours of [0, 1, 0, -1, 0]) {
    writeFileSync(file, String(hours * 3_600_000))
    await pause(200)
    said.push(`say ${said.length + 1}`)
    await stage.say(said.at(-1)!)
    expect((await stage.answered(said.length)).at(-1)!.text).toBe(`you said ${said.length}`)
  }
}, 120_000)
