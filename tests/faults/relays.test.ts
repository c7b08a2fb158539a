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

/** A service that fails at a place, with somebody whose words are relayed to a desk, and has just heard the first of them. */
async function relaying(faults: string, settings: object) {
  const where = await placeFor({ "bot.yaml": "bot: tern\nroutes: []" })
  const before = await startService(where)
  let near = await Stage.set(before, standin, { gather: 0, ...settings })
  let desk = await Stage.set(before, standin, { gather: 0, ...settings })
  await before.stop()
  const place = { ...where, bot: (await placeFor(bot(desk))).bot }
  const service = await startProcess({ ...place, faults })
  near = new Stage(service, standin, near.bot, near.person, near.key)
  desk = new Stage(service, standin, desk.bot, desk.person, desk.key)
  await eventually(async () => (await service.client.bot()).release !== undefined, "the bot")
  await takenUp(service, near.key)
  // Opens the chat, so that the bot may write there.
  await standin.post("start", { bot: desk.bot.username, from: desk.person.id })
  await near.say("all of it")
  return { place, service, near, desk }
}

async function course({ point }: { point: string }) {
  const { place, service: first, near, desk } = await relaying(point, { onDoubt: "resend" })
  await first.ended
  const service = await startService(place)
  await eventually(async () => (await desk.answers()).length > 0 && (await near.answers()).length > 0, "both", 60)
  await quiet(place.database)
  const rows = await query<{ state: string }>(place.database, "SELECT state FROM relays")
  await service.stop()
  return { near: await near.answers(), desk: await desk.answers(), rows }
}

test("an answer to a copy whose id is not on record yet goes back all the same", async () => {
  // Both calls, the answer and the copy, are long on their way to the record.
  const { service, near, desk } = await relaying("send: call answered=hold3000@0", {})
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
