import type { Service, Standin } from "../support/harness.ts"
import { endAll, Stage, startService, startStandin, tempFolder } from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import { longId, quayBot } from "../support/quayBot.ts"
import { bring, hookSecret, update } from "../support/updates.ts"

let service: Service
let standin: Standin
let stage: Stage

beforeAll(async () => {
  standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin)
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
})
afterAll(endAll)

const post = (body: object | string) => bring(service, stage.key, hookSecret, body)
const message = (more: object) => update(stage.person.id, "", more)

describe("nothing is dropped for being strange", () => {
  test("keeps what is strange beside what is good: NUL, a lone surrogate, a megabyte of text", async () => {
    const odd = [
      message({ text: "say a\u0000b" }),
      message({ text: `say ${"x".repeat(1_000_000)}` }),
      message({ text: "say good" }),
    ]
    const raw = odd.map((one) => JSON.stringify(one))
    raw.push(JSON.stringify(message({ text: "say c" })).replace("say c", "say \\ud800"))
    const statuses = await Promise.all(raw.map((body) => post(body)))
    expect(statuses).toEqual([200, 200, 200, 200])
    const found = await stage.messages({ direction: "in", limit: 4 })
    expect(found.map((one) => one.text.length).sort((a, b) => a - b)).toEqual([5, 7, 8, 1_000_004])
  })

  test("a call that PostgreSQL will not take is kept raw, and its neighbours are answered", async () => {
    const poisoned = JSON.stringify(message({ text: "say x", chat: { id: "LONG", type: "private" } })).replace(
      '"LONG"',
      longId(),
    )
    const good = [message({ text: "say beside" }), message({ text: "say beside too" })].map((one) =>
      JSON.stringify(one),
    )
    const statuses = await Promise.all([good[0]!, poisoned, good[1]!].map((body) => post(body)))
    expect(statuses).toEqual([200, 200, 200])
    expect(await stage.messages({ text: "say beside" })).toHaveLength(2)
    const { items } = await service.client.passages({ channel: stage.key, limit: 3 })
    expect(items.filter((item) => item.stops[2]!.why?.includes("could not be stored"))).toHaveLength(1)
  })

  longTest("an event without a name here, and a body that cannot be read, are kept and shown", async () => {
    expect(await post({ update_id: 1, comet_seen: { chat: { id: stage.person.id, type: "private" } } })).toBe(200)
    expect(await post("{ half a bo")).toBe(200)
    const { items } = await service.client.passages({ channel: stage.key, limit: 2 })
    expect(items[1]!.stops[2]!).toMatchObject({ state: "done", why: "unknown" })
    expect(items[0]!.stops[2]!).toMatchObject({ state: "stopped", why: expect.stringContaining("not JSON") as unknown })
    expect((await service.client.passage(items[0]!.id)).intake!.body).toBe("{ half a bo")
  })
})
