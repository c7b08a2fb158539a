import { cpSync, readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Said, Service, Standin } from "./support/harness.ts"
import { endAll, eventually, freePort, root, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"

let service: Service
let standin: Standin

beforeAll(async () => {
  const officePort = await freePort()
  standin = await startStandin(officePort)
  const folder = tempFolder()
  cpSync(join(root, "demo/ferry"), folder, { recursive: true })
  const office = join(folder, "office.ts")
  writeFileSync(office, readFileSync(office, "utf8").replace("4291", String(officePort)))
  service = await startService({ bot: folder })
})
afterAll(endAll)

const labels = (said: Said) => said.reply_markup!.inline_keyboard.flat().map((button) => button.text)

test("a booking in two questions, by buttons and by words, ends with a ticket", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("/start")
  const [welcome] = await stage.answered(1)
  expect(welcome!.text).toContain("Welcome aboard, Ines! This is Tern Point Ferry")
  expect(labels(welcome!)).toEqual(["Next crossing", "Book seats"])
  await stage.press("Book seats")
  const [, which] = await stage.answered(2)
  expect(which!.text).toBe("Which crossing would you like?")
  await stage.press(labels(which!)[0]!)
  const [, , howMany] = await stage.answered(3)
  expect(howMany!.text).toMatch(/^The \d\d:\d\d to Holm Island, good\. How many seats\?$/)
  await stage.say("12")
  expect((await stage.answered(4))[3]!.text).toContain("1 to 8")
  await stage.say("3 seats please")
  expect((await stage.answered(5))[4]!.text).toMatch(/^Booked: 3 seats, ticket TP-\d+\./)
  const { conversation } = (await stage.messages())[0]!
  expect((await service.client.conversation(conversation)).state).toEqual({
    lastTicket: expect.stringMatching(/^TP-/) as unknown,
  })
})

test("the number said at the start is not asked for again; cancel ends it", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("I would like to book 2 seats")
  const [which] = await stage.answered(1)
  await stage.press(labels(which!)[1]!)
  expect((await stage.answered(2))[1]!.text).toContain("Booked: 2 seats")
  await stage.say("/book")
  await stage.answered(3)
  await stage.say("never mind")
  expect((await stage.answered(4))[3]!.text).toBe("Cancelled. Nothing is booked.")
  await stage.say("3")
  await eventually(
    async () => (await stage.messages({ status: "unrouted", text: "3" }))[0],
    "the number to mean nothing",
  )
})

test.each([
  ["When is the next crossing to Holm Island?", /^Next boat to Holm Island: \d\d:\d\d, \d+ seats free\./],
  ["next ferry to Tern Point", /^Next boat to Tern Point/],
  ["/crossings", /^Next boat to/],
  ["what are your opening hours?", /^The ticket window is open 8:00 to 18:00/],
  ["never mind", /^There was nothing to cancel\./],
])("%j is answered", async (text, answer) => {
  const stage = await Stage.set(service, standin)
  await stage.say(text)
  expect((await stage.answered(1))[0]!.text).toMatch(answer)
})

test("a photo of something found becomes a claim, several photos one claim", async () => {
  const stage = await Stage.set(service, standin)
  await stage.send({ photo: "umbrella", caption: "on the upper deck" })
  expect((await stage.answered(1))[0]!.text).toMatch(/^Thank you for the photo\..* claim L-\d+/)
  for (const name of ["a", "b"]) await stage.send({ photo: name, content: { media_group_id: "g" } })
  expect((await stage.answered(2))[1]!.text).toMatch(/^Thank you for your 2 photos\./)
})

test("a person's name does not turn into markup", async () => {
  const stage = await Stage.set(service, standin)
  const leo = await standin.post<{ id: number }>("people", { first_name: "Leo", last_name: "*Star* <b>" })
  await standin.post("say", { bot: stage.bot.username, from: leo.id, text: "opening hours" })
  expect((await stage.answered(1, leo.id))[0]!.text).toMatch(/on Saturday, Leo \*Star\* <b>\.$/)
})

test("in a group it answers what is meant for it, and says good day to who joins", async () => {
  const stage = await Stage.set(service, standin)
  const group = await standin.post<{ id: number }>("groups", {
    title: "Quay",
    type: "supergroup",
    bots: [stage.bot.username],
  })
  await stage.say(`/crossings@${stage.bot.username}`, { chat: group.id })
  await stage.say("/crossings@other_bot", { chat: group.id })
  await stage.send({ chat: group.id, content: { new_chat_members: [{ id: 5, is_bot: false, first_name: "Ada" }] } })
  const answers = await stage.answered(2, group.id)
  expect(answers.map((answer) => answer.text!.slice(0, 8))).toEqual(["Next boa", "Good day"])
})

test("the broken fog sensor fails where every page can show it", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("is there a fog warning today?")
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the failure",
    30,
  )
  const passage = await service.client.passage(parked.message)
  expect(passage.stops[4]).toMatchObject({ stop: "handled", state: "stopped" })
  expect(passage.paths[0]!.turns[0]!.error!.stack).toMatch(/handlers\/fog-signal\.ts:6/)
}, 60_000)
