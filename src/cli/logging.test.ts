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
