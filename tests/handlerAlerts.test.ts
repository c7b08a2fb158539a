import { writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, placeFor, Stage, startService, startStandin } from "./support/harness.ts"
import type { Came } from "./support/gateway.ts"
import { startGateway } from "./support/gateway.ts"

/** Somebody hears of handlers that fail, and that they work again. */
let service: Service
let standin: Standin
let where: Awaited<ReturnType<typeof placeFor>>

const moody = (fixed: boolean) => `import { handler } from "wobbet"
export default handler(({ message }) => {
  if (${!fixed} && message.text === "bad") throw new Error("no boat at the pier")
  return "fine"
})`

beforeAll(async () => {
  where = await placeFor({ "bot.yaml": "bot: quay\nunrouted: moody\n", "handlers/moody.ts": moody(false) })
  standin = await startStandin()
  service = await startService(where)
}, 60_000)
afterAll(endAll)

test("alertTo is told of a handler that fails, once for each cause, and once that it works again", async () => {
  const alerts: Came[] = []
  const { address: alertTo } = await startGateway((call) => (alerts.push(call), {}))
  const said = () => alerts.map(({ body }) => (JSON.parse(body) as { data: { says: string } }).data.says)
  const stage = await Stage.set(service, standin, { alertTo, gather: 0 })
  const parked = async () => (await service.client.parked({ channel: stage.key })).items
  for (const count of [1, 2]) {
    await stage.say("bad")
    await eventually(async () => (await parked()).length === count, `failure ${count}`, 60)
  }
  await stage.say("good")
  await stage.answered(1)
  // It does well at other things, and what it failed at is still parked.
  await eventually(() => Promise.resolve(said().length > 0), "the alert")
  expect(said()).toEqual([expect.stringContaining("no boat at the pier")])
  const { release } = await service.client.bot()
  writeFileSync(join(where.bot, "handlers/moody.ts"), moody(true))
  await eventually(async () => (await service.client.bot()).release !== release, "the new release")
  for (const { id } of await parked()) await service.client.retryParked(id)
  await stage.answered(3)
  await eventually(() => Promise.resolve(said().length > 1), "the all-clear")
  expect(said()).toEqual([expect.any(String), expect.stringContaining("works again")])
}, 180_000)
