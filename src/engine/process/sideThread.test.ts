import { mkdtempSync, rmSync, writeFileSync } from "node:fs"
import { tmpdir } from "node:os"
import { join } from "node:path"
import { NotDone, SideThread } from "./sideThread.ts"

const folder = mkdtempSync(join(tmpdir(), "wobbet-side-"))
const script = join(folder, "side.mjs")
writeFileSync(
  script,
  `import { parentPort } from "node:worker_threads"
parentPort.on("message", ({ id, order }) => {
  if (order.does === "loop") for (;;);
  if (order.does === "eat") for (const all = []; ; ) all.push(new Array(1e6).fill(id))
  if (order.does === "end") process.exit(3)
  parentPort.postMessage({ id, answer: { said: order.does } })
})`,
)
const threads: SideThread<{ does: string }, { said: string }>[] = []
afterAll(() => {
  for (const one of threads) one.close()
  rmSync(folder, { recursive: true, force: true })
})
const thread = () => {
  const made = new SideThread<{ does: string }, { said: string }>(script, 1500)
  threads.push(made)
  return made
}

test.each(["loop", "eat", "end"])(
  "work that does not come to its end (%s) holds up nobody, and the next is done",
  async (does) => {
    const side = thread()
    let ticks = 0
    const timer = setInterval(() => ticks++, 10)
    const bad = side.ask({ does }).catch((error: unknown) => error)
    const next = side.ask({ does: "hello" })
    expect(side.waiting).toHaveLength(2)
    expect(await bad).toBeInstanceOf(NotDone)
    expect(await next).toEqual({ said: "hello" })
    clearInterval(timer)
    expect(ticks).toBeGreaterThan(0)
    expect(side.waiting).toEqual([])
  },
  60_000,
)

test("what may wait goes behind what may not, and nothing goes before what is under way", async () => {
  const side = thread()
  const done: string[] = []
  const ask = (does: string, urgent: boolean) =>
    side.ask({ does }, (other) => !urgent || !other.does.startsWith("look")).then(({ said }) => done.push(said))
  await Promise.all([ask("look 1", false), ask("look 2", false), ask("say 1", true), ask("say 2", true)])
  expect(done).toEqual(["look 1", "say 1", "say 2", "look 2"])
})

test("whoever waits when it is closed is told", async () => {
  const side = thread()
  const waiting = side.ask({ does: "loop" })
  side.close()
  await expect(waiting).rejects.toThrow("the service stopped")
})
