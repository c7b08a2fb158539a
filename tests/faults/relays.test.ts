import type { Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  placeFor,
  query,
  quiet,
  Stage,
  startProcess,
  startService,
  startStandin,
  takenUp,
} from "../support/harness.ts"
import { killTable } from "../support/killTable.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
}, 60_000)
afterAll(endAll)

const bot = (desk: Stage) => ({
  "bot.yaml": `
bot: tern
groups: always
also: [{ name: all, when: { phrase: "all of [it]" }, relay: { to: { channel: ${desk.key}, place: "${desk.person.id}" } } }]
routes: [{ name: all, when: { phrase: "all of [it]" }, handler: { text: "Answered." } }]`,
})

const killed: { point: string; always?: true }[] = [
  { point: "turn: handler answered=kill" },
  { point: "turn: committed=kill" },
  { point: "relay: about to be shown=kill", always: true },
  { point: "send: call answered=kill" },
]

async function course({ point }: { point: string }) {
  const where = await placeFor({ "bot.yaml": "bot: tern\nroutes: []" })
  let service = await startService(where)
  let near = await Stage.set(service, standin, { gather: 0, onDoubt: "resend" })
  let desk = await Stage.set(service, standin, { gather: 0, onDoubt: "resend" })
  await service.stop()
  const folder = (await placeFor(bot(desk))).bot
  const first = await startProcess({ ...where, bot: folder, faults: point })
  near = new Stage(first, standin, near.bot, near.person, near.key)
  desk = new Stage(first, standin, desk.bot, desk.person, desk.key)
  await eventually(async () => (await first.client.bot()).release !== undefined, "the bot")
  await takenUp(first, near.key)
  // Opens the chat, so that the bot may write there.
  await standin.post("start", { bot: desk.bot.username, from: desk.person.id })
  await near.say("all of it")
  await first.ended
  service = await startService({ ...where, bot: folder })
  await eventually(async () => (await desk.answers()).length > 0 && (await near.answers()).length > 0, "both", 60)
  await quiet(where.database)
  const rows = await query<{ state: string }>(where.database, "SELECT state FROM relays")
  await service.stop()
  return { near: await near.answers(), desk: await desk.answers(), rows }
}

test("an answer to a copy whose id is not on record yet goes back all the same", async () => {
  const where = await placeFor({ "bot.yaml": "bot: tern\nroutes: []" })
  const before = await startService(where)
  let near = await Stage.set(before, standin, { gather: 0 })
  let desk = await Stage.set(before, standin, { gather: 0 })
  await before.stop()
  const folder = (await placeFor(bot(desk))).bot
  // Both calls, the answer and the copy, are long on their way to the record.
  const service = await startProcess({ ...where, bot: folder, faults: "send: call answered=hold3000@0" })
  near = new Stage(service, standin, near.bot, near.person, near.key)
  desk = new Stage(service, standin, desk.bot, desk.person, desk.key)
  await eventually(async () => (await service.client.bot()).release !== undefined, "the bot")
  await takenUp(service, near.key)
  await standin.post("start", { bot: desk.bot.username, from: desk.person.id })
  await near.say("all of it")
  const copy = await eventually(
    async () => (await desk.answers()).find(({ text }) => text === "Ines (Telegram): all of it"),
    "the copy",
  )
  await desk.send({ from: desk.person.id, text: "so be it", replyTo: copy.message_id })
  await eventually(
    async () => (await near.answers()).some(({ text }) => text?.includes("so be it")),
    "the answer to come back",
    30,
  )
  await service.stop()
}, 60_000)

describe("kill -9 between a message and its being shown elsewhere", () => {
  const { scenes, found } = killTable(killed, 2, course)

  test.each(scenes)("$point", ({ point, at }) => {
    const { near, desk, rows } = found(at)
    expect(rows).toEqual([{ state: "shown" }])
    // A call whose answer was lost is made again, as the channel is told to.
    const most = point.startsWith("send") ? 2 : 1
    expect(new Set(near.map(({ text }) => text))).toEqual(new Set(["Answered."]))
    expect(near.length).toBeLessThanOrEqual(most)
    expect(new Set(desk.map(({ text }) => text))).toEqual(new Set(["Ines (Telegram): all of it"]))
    expect(desk.length).toBeLessThanOrEqual(most)
  })
})
