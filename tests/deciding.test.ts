import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, run, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"
import type { KindStage } from "./support/kinds.ts"
import { setKind } from "./support/kinds.ts"

/** In groups it speaks as bots do by themselves; `-` stands for an address that a test puts in. */
const folder = {
  "bot.yaml": `
bot: deciding
zone: Europe/Lisbon
language: [en, pt]
country: GB
hours:
  always: { open: { daily: "00:00-24:00" } }
  never: { open: { daily: "08:00-18:00" }, closed: [holidays.ics] }
groups: { places: { Noticeboard: never, talkative: always } }
routes:
  - { name: crew, when: { phrase: "who am i", contact: { tag: crew } }, handler: { text: "One of the crew, in cabin {{contact.fields.cabin}}." } }
  - { name: stranger, when: { phrase: "who am i" }, handler: { text: { en: "Nobody I know.", pt: "Não sei." } } }
  - { name: first, when: { phrase: "good day", said: 0 }, handler: { text: "Good day! Pleased to meet you." } }
  - { name: often, when: { phrase: "good day" }, handler: { text: ["Hello again.", "You once more!"] } }
  - { name: open, when: { phrase: "open", during: always }, handler: { text: "Open until {{hours.always.closes}}." } }
  - { name: closed, when: { phrase: "window", outside: never }, handler: { text: "{{texts.closed}}" } }
  - { name: ticket, when: { pattern: '(?i)ticket (?P<no>[A-Z]{2}[0-9]+)' }, handler: { text: "Ticket {{slots.no}} is valid." } }
  - { name: quiet, when: { phrase: "long time no see", silent: 1h }, handler: { text: "It has been long." } }
  - { name: seen, when: { phrase: "long time no see" }, handler: { text: "We spoke just now." } }
  - { name: staff, when: { phrase: "timetable", place: { is: [Quay staff, staff] } }, handler: { text: "Staff timetable." } }
  - { name: timetable, when: { phrase: "timetable" }, handler: { text: "Public timetable." } }
  - { name: once, when: { phrase: "fail once" }, handler: fails, tries: 1 }
  - { name: naps, when: { phrase: "nap" }, handler: naps, deadline: 300ms, tries: 1 }
  - { name: joined, when: { event: joined }, handler: { text: "Welcome aboard." } }
unrouted:
  - { place: group, handler: { text: "Ask me in a message." } }
  - { language: pt, handler: { text: "Não percebi." } }
  - { handler: { text: "Pardon?" } }
`,
  "texts/window.yaml": `closed:\n  en: The window is closed.\n  pt: A bilheteira está fechada.\n`,
  "holidays.ics": [
    ...["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Tern Point Ferry//EN", "BEGIN:VEVENT", "UID:1"],
    ...["DTSTART;VALUE=DATE:20200101", "RRULE:FREQ=DAILY;COUNT=4000", "SUMMARY:Closed", "END:VEVENT", "END:VCALENDAR"],
  ].join("\r\n"),
  "handlers/fails.ts": `export default () => { throw new Error("the quay is flooded") }`,
  "handlers/naps.ts": `export default async () => { await new Promise((r) => setTimeout(r, 5000)); return "awake" }`,
}

let service: Service
let standin: Standin
const kinds: KindStage[] = []

beforeAll(async () => {
  ;[service, standin] = await Promise.all([startService({ bot: tempFolder(folder) }), startStandin()])
})
afterAll(async () => {
  await endAll()
  await Promise.all(kinds.map((stage) => stage.stop()))
})

const newest = async (stage: Stage) => (await stage.messages({ direction: "in" }))[0]!

async function saysOf(stage: Stage, texts: string[], chat?: number): Promise<(string | undefined)[]> {
  let count = (await stage.answers(chat)).length
  for (const text of texts) {
    await stage.say(text, chat === undefined ? {} : { chat })
    await stage.answered(++count, chat)
  }
  return (await stage.answers(chat)).slice(-texts.length).map((answer) => answer.text)
}

const groupOf = (stage: Stage, title: string) =>
  standin.post<{ id: number }>("groups", { title, type: "group", bots: [stage.bot.username] })

test("a route is met by tags, by how often, by hours, by patterns and by silence; texts are in the person's language", async () => {
  const stage = await Stage.set(service, standin)
  expect(await saysOf(stage, ["who am i", "long time no see"])).toEqual(["Não sei.", "We spoke just now."])
  const { contact } = (await service.client.people({ channel: stage.key })).items[0]!
  const tagged = await run(["contact", "tag", contact, "crew", "night-watch"], service.env)
  expect(tagged.out).toBe(`${contact} has the tags crew, night-watch.\n`)
  expect((await run(["contact", "set", contact, "cabin=12", "berth=upper"], service.env)).out).toContain("cabin 12")
  expect(
    await saysOf(stage, [
      "who am i",
      "good day",
      "good day",
      "good day",
      "good day",
      "window",
      "my TICKET ab12",
      "what",
    ]),
  ).toEqual([
    "One of the crew, in cabin 12.",
    "Good day! Pleased to meet you.",
    "Hello again.",
    "You once more!",
    "Hello again.",
    "A bilheteira está fechada.",
    "Ticket ab12 is valid.",
    "Não percebi.",
  ])
  // What the decision saw then is on record: the tag that is gone since does not change why.
  await run(["contact", "tag", contact, "--remove", "crew,night-watch"], service.env)
  const [asked] = (await stage.messages({ direction: "in", text: "who am i" })) as { id: string }[]
  const [path] = (await service.client.passage(asked!.id)).paths
  expect(path!.decision[0]).toMatchObject({
    route: "crew",
    met: true,
    why: 'the phrase "who am i", the person\'s tags',
  })
  expect(await saysOf(stage, ["who am i"])).toEqual(["Não sei."])
  const explained = await service.client.explain({ message: asked!.id })
  expect(explained).toMatchObject({ took: "route", route: "crew", says: "One of the crew, in cabin 12." })
})

test("a route has tries and a deadline of its own", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("fail once")
  const failed = await eventually(async () => (await stage.messages({ status: "parked" }))[0], "the parked message")
  expect(failed.reason).toContain("the quay is flooded")
  await stage.say("nap")
  const late = await eventually(async () => {
    const message = await newest(stage)
    return message.text === "nap" && message.parked ? message : undefined
  }, "the late handler")
  expect(late.reason).toContain("did not answer within 0.3 s")
})

test("in a group the bot speaks when it is mentioned, given a command or answered, and the passage says why not", async () => {
  const stage = await Stage.set(service, standin)
  const group = await groupOf(stage, "Passengers")
  await stage.say("timetable", { chat: group.id })
  const unheard = await eventually(async () => {
    const message = await newest(stage)
    return message?.status === "passed over" ? message : undefined
  }, "the talk that is passed over")
  expect(unheard.reason).toContain("nobody addressed the bot")
  const [path] = (await service.client.passage(unheard.id)).paths
  expect(path!.decision.find(({ route }) => route === "timetable")!.why).toContain("nobody addressed the bot")
  const entities = [{ type: "mention", offset: 10, length: stage.bot.username.length + 1 }]
  await stage.send({ text: `timetable @${stage.bot.username}`, entities, chat: group.id })
  const [first] = await stage.answered(1, group.id)
  expect(first!.text).toBe("Public timetable.")
  await stage.say("timetable", { chat: group.id, replyTo: first!.message_id })
  expect((await stage.answered(2, group.id))[1]!.text).toBe("Public timetable.")
  await stage.say("/unknown", { chat: group.id })
  expect((await stage.answered(3, group.id))[2]!.text).toBe("Ask me in a message.")
})

test("a flood of talk that is not for the bot is passed over, holds up nothing and parks nothing", async () => {
  const own = await startService({
    bot: tempFolder({ "bot.yaml": `bot: busy\nturnsPerMinute: 3\nunrouted: { text: "Yes?" }\n` }),
  })
  const here = await Stage.set(own, standin)
  const group = await groupOf(here, "Passengers")
  for (let n = 0; n < 12; n++) await here.say(`word ${n}`, { chat: group.id })
  await here.say("/help", { chat: group.id })
  expect((await here.answered(1, group.id))[0]!.text).toBe("Yes?")
  expect(await here.messages({ status: "passed over" })).toHaveLength(12)
  expect((await own.client.parked({})).items).toEqual([])
})

test("rules for groups differ by place and its tags, and a route may name its place", async () => {
  const stage = await Stage.set(service, standin)
  const board = await groupOf(stage, "Noticeboard")
  const staff = await groupOf(stage, "Quay staff")
  await stage.say("/timetable", { chat: board.id })
  const silent = await eventually(async () => (await stage.messages({ status: "passed over" }))[0], "the noticeboard")
  expect(silent.reason).toContain("groups: never")
  await stage.say("timetable", { chat: staff.id })
  await eventually(
    async () => ((await stage.messages({ status: "passed over" })).length === 2 ? true : undefined),
    "it",
  )
  const tagged = await run(["conversation", "tag", String(staff.id), "talkative"], service.env)
  expect(tagged.out).toBe("Quay staff has the tags talkative.\n")
  expect(await saysOf(stage, ["timetable"], staff.id)).toEqual(["Staff timetable."])
})

test("on Slack, a thread that hangs on a message of the bot answers it", async () => {
  const stage = await setKind(service, "slack", {})
  kinds.push(stage)
  await stage.does("say", { channel: "C1", text: "timetable" })
  await eventually(async () => (await stage.messages({ status: "passed over" })).items[0], "the talk to nobody")
  const { conversation } = (await stage.messages({ direction: "in" })).items[0]!
  await service.client.send({ to: conversation, text: "The timetable has changed." })
  const sent = await eventually(async () => {
    const [message] = (await stage.messages({ direction: "out" })).items
    return message?.providerId ? message : undefined
  }, "the words of the quay")
  await stage.does("say", { channel: "C1", thread: sent.providerId, text: "timetable" })
  const answer = await eventually(async () => {
    const [message] = (await stage.messages({ direction: "out" })).items
    return message?.id === sent.id ? undefined : message
  }, "the answer")
  expect(answer!.text).toBe("Public timetable.")
})

test("a bot that serves one group answers nowhere else, and says so", async () => {
  const stage = await Stage.set(service, standin)
  const own = await startService({
    bot: tempFolder({
      "bot.yaml": `bot: one-group\ngroups: always\nonly: { places: [Quay staff] }\nunrouted: { text: "Here." }\n`,
    }),
  })
  const here = await Stage.set(own, standin)
  const [staff, other] = [await groupOf(here, "Quay staff"), await groupOf(here, "Passengers")]
  await here.say("hello", { chat: other.id })
  await here.say("hello")
  await here.say("hello", { chat: staff.id })
  expect((await here.answered(1, staff.id))[0]!.text).toBe("Here.")
  const silent = await eventually(async () => {
    const found = await here.messages({ status: "passed over" })
    return found.length === 2 ? found : undefined
  }, "what is said elsewhere")
  expect(silent.map(({ reason }) => reason)).toContain("this bot serves only Quay staff, not Passengers")
  expect(await here.answers(other.id)).toEqual([])
  expect(stage.key).not.toBe(here.key)
})

test("explains with and without a channel, a place, a person and a time", async () => {
  const stage = await Stage.set(service, standin)
  await saysOf(stage, ["good day"])
  const explain = async (...args: string[]) => (await run(["bot", "explain", ...args], service.env)).out
  const open = await explain("who am i")
  expect(open).toMatch(/^→ route stranger, handler text\n/)
  expect(open).toContain("says Nobody I know.")
  expect(open).toContain("unless crew takes it: depends on the person: wants tag")
  expect(open).toContain("◐ crew")
  const person = String(stage.person.id)
  expect(await explain("who am i", "--person", person, "--channel", stage.key)).toContain("says Não sei.")
  expect(await explain("good day", "--channel", stage.key, "--place", person)).toMatch(/^→ route often/)
  expect(await explain("timetable", "--place", "group", "--channel", stage.key)).toContain(
    "it depends on whether the bot is addressed",
  )
  const group = await explain("open", "--place", "group", "--channel", stage.key)
  expect(group).toMatch(/^→ passed over/)
  expect(group).toContain("unless open takes it: in a group, it depends on whether the bot is addressed")
  expect(await explain("window", "--at", "2026-11-27T10:00", "--all")).toContain("outside the hours never")
  const json = await run(["bot", "explain", "good day", "--json"], service.env)
  expect(JSON.parse(json.out)).toMatchObject({ took: "route", route: "often", unless: [{ route: "first" }] })
  for (const [args, says] of [
    [["hm", "--person", "nobody"], 'There is no person "nobody"'],
    [["hm", "--place", "nowhere"], 'There is no place "nowhere"'],
    [["--message", "msg_01k0000000000000000000000a"], "There is no received message"],
    [[], "There is nothing to explain."],
  ] as const)
    expect(await run(["bot", "explain", ...args], service.env)).toMatchObject({
      code: 1,
      err: expect.stringContaining(says) as string,
    })
})
