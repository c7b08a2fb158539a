import { mkdtempSync, rmSync, writeFileSync } from "node:fs"
import { tmpdir } from "node:os"
import { join } from "node:path"
import fc from "fast-check"
import { pino } from "pino"
import type { Keeping, TurnInput } from "./handler.ts"
import { HandlerFault } from "./handler.ts"
import { readFromHost } from "./hostProtocol.ts"
import { HostPool } from "./hosts.ts"
import { Housing } from "./housing.ts"

/** A host whose code is not ours: it loads, and then says whatever it is told to, with the run's own number in it. */
const script = `
const filled = (given, id) => JSON.parse(JSON.stringify(given).replaceAll('"$id"', String(id)))
process.on("message", (orders) => {
  for (const { say, at, id, turn } of orders) {
    if (say === "load") process.send([{ say: "loaded", handlers: ["h"] }])
    else if (say === "ping") process.send([{ say: "pong", at, memory: 1 }])
    else if (say === "run") {
      const { says, then } = turn.state
      for (const words of says) process.send(filled(words, id))
      if (then === "ends") process.exit(3)
      if (then === "answers") process.send([{ say: "done", id, outcome: { replies: [] }, log: [] }])
    }
  }
})
process.on("disconnect", () => process.exit(0))
`

const folder = mkdtempSync(join(tmpdir(), "wobbet-protocol-"))
writeFileSync(join(folder, "host.mjs"), script)
writeFileSync(join(folder, "bundle.mjs"), "")
const housing = Housing.prepare(folder, join(folder, "host.mjs"), pino({ level: "silent" }))
const pool = new HostPool(housing, housing.bundle("b", ""), { hosts: 1, memory: 64, stuckAfter: 20_000 })
const uncaught: unknown[] = []
const note = (error: unknown) => uncaught.push(error)
beforeAll(() => void process.on("uncaughtException", note).on("unhandledRejection", note))
afterAll(async () => {
  await pool.close(0)
  housing.close()
  process.off("uncaughtException", note).off("unhandledRejection", note)
  rmSync(folder, { recursive: true, force: true })
})

const keeping: Keeping = {
  interview: { id: "itv_1", release: "r", mark: "m" },
  journal: () => Promise.resolve([]),
  person: () => Promise.resolve(null),
  history: () => Promise.resolve([]),
  once: { begin: () => Promise.resolve({ key: "k" }), end: () => Promise.resolve({ kept: true }) },
}

function run(says: unknown[], then: string, within: number) {
  const state = { says, then }
  const turn = { state, messages: [], message: {}, slots: {} } as unknown as TurnInput
  return pool.run("h", turn, within, keeping)
}

const anything = fc.anything({ maxDepth: 3, withNullPrototype: false }).map((given) => {
  try {
    return JSON.parse(JSON.stringify(given ?? null)) as unknown
  } catch {
    return null
  }
})
const field = fc.oneof(
  anything,
  fc.constant("$id"),
  fc.integer(),
  fc.constant({ name: "x", message: "y" }),
  fc.constant({ name: "x", nth: 1, round: 0 }),
  fc.constant({ replies: [], interview: null }),
  fc.constant({ interview: { id: "i", stands: { waits: "answer" } } }),
)
/** Something like what a host says, with any of it wrong. */
const words = fc.record(
  {
    say: fc.constantFrom(
      "loaded",
      "broken",
      "done",
      "threw",
      "cold",
      "once",
      "person",
      "history",
      "once ended",
      "pong",
      7,
    ),
    ...{ id: field, call: field, outcome: field, error: field, log: field, asked: field, key: field, ended: field },
    ...{ at: field, memory: field, handlers: field, count: field },
  },
  { requiredKeys: ["say"] },
)
const message = fc.oneof(anything, fc.array(fc.oneof(words, anything), { maxLength: 4 }))

test("whatever a host says, its turn ends in a fault that names it or in an answer, and the next is taken", async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(message, { maxLength: 5 }),
      fc.constantFrom("answers", "ends", "says no more"),
      async (says, then) => {
        const came = await run(says, then, 400).then(
          ({ outcome }) => outcome,
          (error: unknown) => error,
        )
        if (came instanceof Error) expect(came).toBeInstanceOf(HandlerFault)
        else expect(came).toEqual(expect.any(Object))
        expect(await run([], "answers", 30_000)).toEqual({ outcome: { replies: [] }, log: [] })
        expect(uncaught).toEqual([])
      },
    ),
    { numRuns: Number(process.env.WOBBET_RUNS ?? 25) },
  )
}, 36_000_000)

test("what is read of a host is what the protocol has, cut to its length", () => {
  fc.assert(
    fc.property(message, (said) => {
      const read = readFromHost(said)
      for (const one of read ?? []) expect(typeof one.say).toBe("string")
    }),
    { numRuns: 2000 },
  )
  for (const wrong of [7, null, [7], [{ say: "threw", id: 1, error: null }], [{ say: "done", id: 1, log: [] }]])
    expect(readFromHost(wrong)).toBeUndefined()
  const long = { name: "n".repeat(1000), message: "m".repeat(100_000) }
  const log = Array.from({ length: 200 }, () => "l".repeat(5000))
  expect(readFromHost([{ say: "threw", id: 1, error: long, log }])).toEqual([
    {
      ...{ say: "threw", id: 1, log: Array.from({ length: 100 }, () => "l".repeat(1000)) },
      error: { name: "n".repeat(200), message: "m".repeat(20_000) },
    },
  ])
})

test("what a handler's host says wrongly ends that host, and the reason is told", async () => {
  await expect(run([7], "answers", 30_000)).rejects.toThrow("its process said what no handler says to the service")
})
