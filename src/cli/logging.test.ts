import { Writable } from "node:stream"
import { makeLog } from "./logging.ts"

function logOf(steady?: () => number) {
  const lines: { [name: string]: unknown }[] = []
  const to = new Writable({
    write(chunk, _encoding, done) {
      lines.push(JSON.parse(String(chunk)) as { [name: string]: unknown })
      done()
    },
  })
  return { log: makeLog({ WOBBET_LOG: "json" }, to, steady), lines }
}

test("the same trouble, met every second, is told once a minute; another one, or elsewhere, is told as well", () => {
  let now = 0
  const { log, lines } = logOf(() => now)
  const err = new Error("no space left on the disk")
  for (let n = 0; n < 50; n++) log.error({ err }, "housekeeping failed; it is tried again")
  log.error({ err, channel: "quay" }, "housekeeping failed; it is tried again")
  log.error({ err: new Error("the disk failed") }, "housekeeping failed; it is tried again")
  for (let n = 0; n < 50; n++) log.warn({ away: true }, "the database is away; turns wait")
  expect(lines.map(({ err: told, channel, msg }) => [(told as Error | undefined)?.message, channel, msg])).toEqual([
    [err.message, undefined, "housekeeping failed; it is tried again"],
    [err.message, "quay", "housekeeping failed; it is tried again"],
    ["the disk failed", undefined, "housekeeping failed; it is tried again"],
    [undefined, undefined, "the database is away; turns wait"],
  ])
  now = 61_000
  log.error({ err }, "housekeeping failed; it is tried again")
  expect(lines.at(-1)).toMatchObject({ timesMeanwhile: 49 })
})

test("what is no trouble is told each time, and nothing that is told can be in the way", () => {
  const { log, lines } = logOf()
  const ring: { [name: string]: unknown } = { big: 1n }
  ring.self = ring
  for (let n = 0; n < 3; n++) log.info("a call came")
  log.error({ err: new Error("odd"), size: 2n, ring: [] }, "odd")
  expect(lines).toHaveLength(4)
})

test("nothing a stranger wrote looks like a line of the log of its own", () => {
  let said = ""
  const to = new Writable({
    write(chunk, _encoding, done) {
      said += String(chunk)
      done()
    },
  })
  const log = makeLog({ NO_COLOR: "1" }, to)
  const hostile = "fog\n[12:00:00] INFO: all is well\r[12:00:01] INFO: nothing\u2028[12:00:02] INFO: at all\x1b[2K"
  log.warn(`the handler failed: ${hostile}`)
  log.warn({ channel: hostile, place: { title: hostile } }, "told with fields")
  log.error(
    { err: Object.assign(new Error(hostile), { detail: hostile, cause: new Error(hostile) }) },
    "told with an error",
  )
  const heads = said.split(/[\n\r\u2028]/).filter((line) => !/^\s|^$/.test(line))
  expect(heads.map((line) => line.replace(/^\[.*?\] /, ""))).toEqual([
    "WARN: the handler failed: fog",
    "WARN: told with fields",
    "ERROR: told with an error",
  ])
})
