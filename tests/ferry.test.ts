import { spawn } from "node:child_process"
import { cpSync, readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Said, Service, Standin } from "./support/harness.ts"
import { officeKeys } from "../demo/office.ts"
import type { ModelFault, ModelStandin } from "../src/standins/model/server.ts"
import { setKind } from "./support/kinds.ts"
import {
  atEnd,
  endAll,
  eventually,
  freePort,
  inside,
  root,
  run,
  Stage,
  startService,
  startStandin,
  tempFolder,
} from "./support/harness.ts"

let service: Service
let standin: Standin
let model: ModelStandin

beforeAll(async () => {
  const officePort = await freePort()
  standin = await startStandin({ officePort })
  model = await (await inside()).startModel({ key: officeKeys.MODEL_KEY })
  atEnd(() => model.stop())
  const folder = tempFolder()
  cpSync(join(root, "demo/ferry"), folder, { recursive: true })
  const office = join(folder, "office.ts")
  for (const file of [office, join(folder, "bot.yaml")])
    writeFileSync(
      file,
      readFileSync(file, "utf8").replace("4291", String(officePort)).replace("http://127.0.0.1:4298/v1", model.address),
    )
  service = await startService({ bot: folder, env: { WOBBET_PRIVATE_NETWORKS: "127.0.0.1" } })
  for (const [name, value] of Object.entries(officeKeys))
    await service.client.setSecret(name, { value, bot: "tern-point-ferry" })
  await eventually(async () => (await service.client.bot()).release !== undefined, "the bot")
})
afterAll(endAll)

const labels = (said: Said) => said.reply_markup!.inline_keyboard.flat().map((button) => button.text)

test("the office answers for the times, the fares have a key, and the baggage desk fetches what was lost", async () => {
  const stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("crossing times to Holm Island")
  expect((await stage.answered(1))[0]!.text).toMatch(/^Still to leave:\n\n• \d\d:\d\d to Holm Island, \d+ seats free/)
  await stage.say("how much is a ticket for 2 to Holm Island")
  expect((await stage.answered(2))[1]!.text).toBe("A seat to Holm Island is 4.20 €, 8.40 € for 2.")
  await stage.say("I lost my umbrella")
  expect((await stage.answered(3))[2]!.text).toBe("We look for it.")
  const { token } = await service.client.makeWorkerToken("baggage desk", "baggage")
  const desk = spawn("python3", [join(root, "demo/baggage.py")], {
    env: { PATH: process.env.PATH, WOBBET_URL: service.address, WOBBET_TOKEN: token },
  })
  atEnd(() => void desk.kill())
  expect((await stage.answered(4))[3]!.text).toBe(
    "Good news: umbrella found, on the hook by the door. Ask for it at the ticket window.",
  )
})

test("a booking as one interview: a wrong day, an aside, back, and a ticket", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("/start")
  const [welcome] = await stage.answered(1)
  expect(welcome!.text).toContain("Welcome aboard, Ines! This is Tern Point Ferry")
  expect(labels(welcome!)).toEqual(["Next crossing", "Book seats"])
  await stage.press("Book seats")
  expect((await stage.answered(2))[1]!.text).toBe("Which day would you like to cross?")
  await stage.say("ontem")
  expect((await stage.answered(4)).slice(2).map(({ text }) => text)).toEqual([
    expect.stringMatching(/^Tem de ser .* ou mais\.$/),
    "Which day would you like to cross?",
  ])
  await stage.say("24 de dezembro")
  const which = (await stage.answered(5))[4]!
  expect(which.text).toMatch(/^Which crossing would you like on \w+ \d+ \w+\?$/)
  await stage.press(labels(which)[0]!)
  expect((await stage.answered(6))[5]!.text).toBe("How many seats?")
  await stage.say("when are you open")
  expect((await stage.answered(8)).slice(6).map(({ text }) => text)).toEqual([
    expect.stringContaining("The ticket window is open"),
    "How many seats?",
  ])
  await stage.say("12")
  await stage.answered(10)
  await stage.say("voltar")
  expect((await stage.answered(11))[10]!.text).toMatch(/^Which crossing/)
  await stage.say("a primeira")
  await stage.answered(12)
  await stage.say("3 please")
  expect((await stage.answered(13))[12]!.text).toMatch(/^Booked: 3 seats on \w+ \d+ \w+, ticket TP-\d+\./)
  const { conversation } = (await stage.messages())[0]!
  const { state, interviews } = await service.client.conversation(conversation)
  expect(state).toEqual({ lastTicket: expect.stringMatching(/^TP-/) as unknown })
  expect(interviews).toMatchObject([{ handler: "booking", stands: "waits", waits: "a pause" }])
  expect(interviews[0]!.answers.map(({ value }) => value)).toEqual([
    expect.stringMatching(/^\d{4}-/),
    expect.any(String),
    3,
  ])
})

test("seats, place and day that are said at once are booked as they were meant", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("two seats to the island on 24 December 2027")
  const [which] = await stage.answered(1)
  expect(which!.text).toBe("Which crossing would you like to Holm Island on Friday 24 December?")
  expect(labels(which!)[0]).toBe("08:10 to Holm Island")
  await stage.press(labels(which!)[0]!)
  expect((await stage.answered(2))[1]!.text).toMatch(/^Booked: 2 seats on Friday 24 December, ticket TP-\d+\./)
})

test("the same person books on Telegram and on SMS, asks for the desk, and is forgotten on both", async () => {
  const stage = await Stage.set(service, standin)
  const phone = await setKind(service, "sms")
  await stage.say("two seats to the island on 23 December 2027")
  const [which] = await stage.answered(1)
  await stage.press(labels(which!)[0]!)
  await stage.answered(2)
  const { contact } = (await service.client.people({ channel: stage.key })).items[0]!
  await phone.says((await service.client.makeJoinCode(contact)).code)
  await phone.answered(1)
  await phone.says("one seat to the island on 23 December 2027")
  expect((await phone.answered(2))[1]!.text).toMatch(/^Which crossing .*\n1\. 08:10 to Holm Island/s)
  await phone.says("2")
  expect((await phone.answered(3))[2]!.text).toMatch(/^Booked: 1 seat on Thursday 23 December, ticket TP-\d+\./)
  const both = await service.client.person(contact)
  expect(both.conversations.map(({ channel }) => channel).sort()).toEqual([stage.key, phone.key].sort())
  expect(both.interviews).toHaveLength(2)

  await phone.says("please ask the quay desk")
  expect((await phone.answered(4))[3]!.text).toBe("Somebody of the quay desk will answer you here.")
  const waits = async () => (await run(["conversation", "list", "--waiting"], service.env)).out
  const { conversation } = (await phone.messages()).items[0]!
  expect(await waits()).toContain(conversation)
  expect((await run(["conversation", "give-back", conversation], service.env)).code).toBe(0)
  expect(await waits()).toContain("Nobody waits")

  const find = async () => (await run(["message", "find", "seats"], service.env)).out
  expect(await find()).toContain("23 December")
  expect((await run(["contact", "forget", contact, "--yes"], service.env)).out).toContain("2 interviews")
  expect(await find()).not.toContain("23 December")
  expect((await service.client.person(contact).catch((error: Error) => error.message)) as unknown).toContain(
    "no person",
  )
}, 60_000)

test("a greeting is answered by the hour, and after hours the window says when it opens", async () => {
  const stage = await Stage.set(service, standin)
  const at = async (text: string, time: string) => (await service.client.explain({ text, at: time })).says
  expect(await at("hello", "2027-01-12T09:00")).toMatch(/^Good morning!/)
  expect(await at("hello", "2027-01-12T15:00")).toMatch(/^Good day!/)
  expect(await at("hello", "2027-01-12T19:00")).toMatch(/^Good evening!/)
  expect(await at("is the window open", "2027-01-12T17:59")).toMatch(/open until 18:00/)
  expect(await at("is the window open", "2027-01-12T18:00")).toBe(
    "The ticket window is closed. It opens Wednesday 08:00.",
  )
  // Christmas is a Friday in 2026, and in the folder's calendar.
  expect(await at("is the window open", "2026-12-25T10:00")).toBe(
    "The ticket window is closed. It opens Saturday 09:00.",
  )
  await stage.say("Boa tarde")
  expect((await stage.answered(1))[0]!.text).toMatch(/^(Bom dia|Boa tarde|Boa noite)! Pergunte/)
})

test("the number said at the start is not asked for again; cancel ends it", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("I would like to book 2 seats")
  await stage.answered(1)
  await stage.say("24 de dezembro")
  const [, which] = await stage.answered(2)
  await stage.press(labels(which!)[1]!)
  expect((await stage.answered(3))[2]!.text).toContain("Booked: 2 seats")
  await stage.say("/book")
  await stage.answered(4)
  await stage.say("cancelar")
  expect((await stage.answered(5))[4]!.text).toBe("Está bem, ficamos por aqui.")
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

const questions: [question: string, says: RegExp, fault?: ModelFault][] = [
  ["what does a bicycle cost", /A bicycle costs 2 euros/],
  ["may dogs come along in fog", /fog|Dogs/],
  ["crossings to Holm Island", /^Holm Island: \d\d:\d\d\.$/],
  ["how many bags are free", /\w/],
  ["what does a bicycle cost", /A bicycle costs 2 euros|dozed off/, "slow"],
  ["when does the horn sound", /horn/],
  ["is there soup", /soup|tea/],
  ["what does a bicycle cost", /A bicycle costs 2 euros/, "500"],
  ["tell me of wheelchairs", /\w/],
  ["how long is lost property kept", /\w/],
  ["what does a bicycle cost", /A bicycle costs 2 euros/, "cut"],
  ["what above nine Beaufort", /\w/],
  ["refunds for a ticket", /\w/],
  ["what does a bicycle cost", /A bicycle costs 2 euros/, "empty"],
  ["groups of ten", /\w/],
  ["the first boat", /\w/],
  ["what does a bicycle cost", /A bicycle costs 2 euros|dozed off|sell/, "inventing"],
  ["the stairs at spring tide", /\w/],
  ["children under twelve", /\w/],
  ["tea on board", /\w/],
]

test("twenty questions to the pilot, five of them with a bad model: never two answers, and the passages name facts and tools", async () => {
  const stage = await Stage.set(service, standin, { gather: 0 })
  for (const [question, says, fault] of questions) {
    if (fault) model.act(fault, 1, 2)
    const before = (await stage.answers()).length
    await stage.say(`pilot, ${question}`)
    const said = await eventually(
      async () => {
        const now = (await stage.answers()).slice(before).map(({ text }) => text ?? "")
        return now.some((text) => says.test(text) && !text.endsWith("…")) ? now : undefined
      },
      `an answer to "${question}"`,
      30,
    )
    // What grew has become the answer: there is one message.
    expect(said).toHaveLength(1)
  }
  const { items } = await service.client.messages({ channel: stage.key, direction: "in", limit: 50 })
  expect(items).toHaveLength(questions.length)
  const calls = await Promise.all(
    items.map(async ({ id }) => (await service.client.passage(id)).paths[0]!.turns.at(-1)!.elsewhere!.calls),
  )
  expect(calls.flat().some(({ tools }) => tools?.some(({ name }) => name === "crossings"))).toBe(true)
  expect(calls.flat().some(({ tools }) => tools?.some(({ gave }) => gave.includes("There is no tool")))).toBe(true)
  expect(calls.flat().filter(({ facts }) => facts?.some((fact) => fact.includes("Bicycles"))).length).toBeGreaterThan(5)
  const came = calls.flat().map((call) => call.came)
  for (const wrong of [/it answered 500/, /broke off|reached/, /empty/])
    expect(came.some((one) => wrong.test(one))).toBe(true)
}, 120_000)
