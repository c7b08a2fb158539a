import { writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Service, Standin } from "./support/harness.ts"
import { Client } from "../src/client/client.ts"
import { kindsWithStandins, setKind } from "./support/kinds.ts"
import {
  endAll,
  eventually,
  pause,
  placeFor,
  query,
  run,
  Stage,
  startProcess,
  startService,
  startStandin,
} from "./support/harness.ts"

const bot: { [path: string]: string } = {
  "bot.yaml": `
bot: tern
groups: always
zone: Europe/Lisbon
country: GB
turnsPerMinute: 1000
interviews: { cancel: [enough of this], texts: { cancelled: { en: "As you like.", pt: "Como quiser." } } }
routes:
  - { name: booking, when: { phrase: "book" }, handler: booking }
  - { name: note, when: { any: [ { command: note }, { phrase: "leave a note" } ] }, handler: note }
  - { name: tide, when: { phrase: "[when is] high tide" }, handler: { text: "High tide is at **14:20**." } }
  - { name: code, when: { phrase: "code" }, handler: plain }
  - { name: lots, when: { phrase: "count everything" }, handler: lots }
  - { name: odd, when: { phrase: "odd $word{what}" }, handler: odd }
  - { name: pile, when: { phrase: "pile up" }, handler: pile }
  - { name: hand, when: { phrase: "hand over" }, handler: hand }
  - { name: drift, when: { phrase: "drift" }, handler: drift }
  - { name: before, when: { phrase: "what was said" }, handler: before }
  - { name: who, when: { phrase: "who am i" }, handler: who }
  - { name: parts, when: { phrase: "in parts" }, handler: parts }
  - { name: gives up, when: { phrase: "try me $word{how}" }, handler: tries }
  - { name: hurry, when: { phrase: "hurry" }, handler: hurry }
  - { name: fields, when: { phrase: "wrong fields" }, handler: fields }
  - { name: big, when: { phrase: "keep it all" }, handler: big }
  - { name: size, when: { phrase: "my size is $word{size}" }, handler: size }
  - { name: wait, when: { phrase: "wait for the boat" }, handler: boat }
  - { name: wait long, when: { phrase: "wait for long" }, handler: long }
unrouted: help
`,
  "handlers/help.ts": `import { handler } from "wobbet"
export default handler(() => "Ask me about the tide.")`,
  "handlers/booking.ts": `import { answer, interview, once, tell } from "wobbet"
export default interview(function* ({ contact }) {
  const day = yield* answer.date("Which day would you like to cross?", { from: "today" })
  const seats = yield* answer.integer("How many seats?", { min: 1, max: 8 })
  const fare = yield* once("fare", () => seats * 4, { back: "again" })
  if (yield* answer.yesNo(\`\${seats} seats: **\${fare} pounds**. Book them?\`)) {
    const ticket = yield* once("book", (key) => key.slice(0, 9))
    yield* tell(\`Booked for \${contact.name}, \${day}. Your ticket is \${ticket}.\`)
  }
  return "Good day!"
})`,
  "handlers/note.ts": `import { answer, interview, remember } from "wobbet"
export default interview(function* () {
  const words = yield* answer.text("What shall I note?")
  const [a, b] = [Math.random(), Math.random()]
  const when = Date.now()
  const which = yield* answer.choice("For whom?", { holm: "Holm Island", tern: "Tern Point" })
  yield* remember({ note: words, which, steady: a !== b, same: when === Date.now() - (Date.now() - when) })
  return "Noted for " + which + "."
})`,
  "handlers/plain.ts": `import { handler } from "wobbet"
let runs = 0
export default handler(async ({ once, message }) => {
  const first = await once("a", (key) => ({ key, run: ++runs }))
  const second = await once("a", (key) => ({ key, run: ++runs }))
  return first.key === second.key ? "the same key" : first.run + " " + second.run
})`,
  "handlers/lots.ts": `import { answer, choices, interview, tell } from "wobbet"
export default interview(function* () {
  const boats = yield* answer.choices("Which boats?", ["Gull", "Tern", "Puffin"])
  const things = yield* answer.list("What did you take along?", { min: 2 })
  const name = yield* answer.text("And your name?", { check: (name) => (name.length < 3 ? "That is too short a name." : undefined), tries: 2, otherwise: { value: "nobody" } })
  yield* tell(boats.join("+"), things.join("+"))
  return name
})`,
  "handlers/odd.ts": `import { answer, interview, tell } from "wobbet"
export default interview(function* ({ slots }): Generator<any, any, any> {
  if (slots.what === "starless") yield answer.text("?")
  if (slots.what === "number") yield 7
  if (slots.what === "hollow") yield { step: "ask" }
  if (slots.what === "endless") for (;;) yield* tell("more")
  if (slots.what === "finally") try { yield* answer.text("Say something") } finally { throw new Error("a fault in the end") }
  if (slots.what === "thrown") throw new Error("no boat today")
  return "that was odd"
})`,
  "handlers/pile.ts": `import { answer, interview, once, tell } from "wobbet"
export default interview(function* () {
  for (let n = 1; ; n++) {
    yield* once("crate", () => "x".repeat(80_000))
    yield* tell("That makes " + n + ".")
    yield* answer.text("What else?")
  }
})`,
  "handlers/drift.ts": `import { answer, interview } from "wobbet"
export default interview(function* () {
  const number = process.hrtime.bigint()
  const name = yield* answer.text("Number " + number + ": your name?")
  return name
})`,
  "handlers/before.ts": `import { handler } from "wobbet"
export default handler(async ({ history }) => (await history(3)).map(({ direction, text }) => direction + " " + text).join(" | "))`,
  "handlers/who.ts": `import { handler } from "wobbet"
export default handler(async ({ person }) => { const who = await person(); return who?.name + " " + JSON.stringify(who?.fields) + " " + who?.addresses.length })`,
  "handlers/parts.ts": `import { answer, ask, interview, leave, remember } from "wobbet"
const address = interview(function* ({ contact }) {
  const street = yield* answer.text("Which street?")
  return { street, by: contact.name }
})
export default interview(function* () {
  const { street, by } = yield* ask(address)
  yield* remember({ street, by }, "contact")
  yield* leave({ route: "tide" }, "Now the tide.")
})`,
  "handlers/tries.ts": `import { answer, interview } from "wobbet"
export default interview(function* ({ slots }) {
  const how = slots.how
  const otherwise = how === "say" ? { say: "So be it." } : how === "leave" ? { leave: { route: "tide" } } : how === "person" ? ("person" as const) : undefined
  return "You said " + (yield* answer.integer("A number?", { tries: 2, ...(otherwise ? { otherwise } : {}) }))
})`,
  "handlers/hurry.ts": `import { answer, interview } from "wobbet"
export default interview(function* () { return "In time: " + (yield* answer.text("Quick, a word?")) }, { within: "6s", remind: "4s", texts: { reminder: "Still there?", late: "Too late." } })`,
  "handlers/fields.ts": `import { handler } from "wobbet"
export default handler(() => ({ contact: "large" as any, replies: "Noted." }))`,
  "handlers/big.ts": `import { handler } from "wobbet"
export default handler(() => ({ state: { all: "a".repeat(300_000) } }))`,
  "handlers/size.ts": `import { handler } from "wobbet"
export default handler(({ slots }) => ({ contact: { size: slots.size }, replies: "Noted." }))`,
  "handlers/hand.ts": `import { interview, leave } from "wobbet"
export default interview(function* () { yield* leave("person", "Somebody will be with you.") })`,
  "handlers/long.ts": `import { interview, pause } from "wobbet"
export default interview(function* () { yield* pause({ for: "1d" }) })`,
  "handlers/boat.ts": `import { expect, interview, pause, tell } from "wobbet"
export default interview(function* () {
  yield* tell("I will tell you.")
  yield* pause({ for: "3s" })
  yield* tell("It is in sight.")
  const said = yield* expect({ when: { phrase: "thank you" }, within: "5s" })
  return said ? "You are welcome." : "Nobody thanks me."
})`,
}

let place: Awaited<ReturnType<typeof placeFor>>
let service: Service
let standin: Standin
let stage: Stage

beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor(bot)
  service = await startService(place)
  stage = await Stage.set(service, standin)
}, 90_000)

afterAll(endAll)

/** Somebody who writes to the bot, and what the bot has said to them. */
async function somebody(name = "Ana", language = "en") {
  const person = await standin.post<{ id: number }>("people", { first_name: name, language_code: language })
  let seen = 0
  return {
    id: person.id,
    /** Says something, and gives the next so many things the bot says. */
    async says(text: string | object, count = 1): Promise<string[]> {
      await stage.send({ from: person.id, ...(typeof text === "string" ? { text } : text) })
      return this.hears(count)
    },
    async hears(count: number): Promise<string[]> {
      const all = await stage.answered(seen + count, person.id)
      const fresh = all.slice(seen, seen + count).map((one) => one.text ?? "")
      seen += count
      return fresh
    },
    async presses(button: string, count = 1): Promise<string[]> {
      await standin.post("press", { bot: stage.bot.username, from: person.id, button })
      return this.hears(count)
    },
  }
}

test("a booking is asked for from top to bottom, with a wrong day, and what is asked twice has its reason", async () => {
  const ana = await somebody()
  expect(await ana.says("book")).toEqual(["Which day would you like to cross?"])
  expect(await ana.says("whenever", 2)).toEqual([
    expect.stringContaining("could not read a day"),
    "Which day would you like to cross?",
  ])
  expect(await ana.says("yesterday", 2)).toEqual([
    expect.stringMatching(/^It must be .* or more\. Say “cancel” to leave it\.$/),
    "Which day would you like to cross?",
  ])
  expect(await ana.says("tomorrow")).toEqual(["How many seats?"])
  expect(await ana.says("nine", 2)).toEqual(["It must be 8 or less.", "How many seats?"])
  expect(await ana.says("two please")).toEqual(["2 seats: 8 pounds. Book them?"])
  const [booked, bye] = await ana.says("yep", 2)
  expect(booked).toMatch(/^Booked for Ana, \d{4}-\d{2}-\d{2}\. Your ticket is once_/)
  expect(bye).toBe("Good day!")
  expect(await ana.says("nothing")).toEqual(["Ask me about the tide."])
})

test("cancel ends it, also as a command; back leads to the previous question, and stops at a side effect", async () => {
  const ana = await somebody()
  await ana.says("book")
  expect(await ana.says("Cancel!")).toEqual(["As you like."])
  expect(await ana.says("two")).toEqual(["Ask me about the tide."])
  await ana.says("book")
  await ana.says("tomorrow")
  expect(await ana.says("back")).toEqual(["Which day would you like to cross?"])
  expect(await ana.says("back", 2)).toEqual([
    "I cannot go further back than this.",
    "Which day would you like to cross?",
  ])
  await ana.says("friday")
  // The fare may be asked for again: its author says so.
  expect(await ana.says("3")).toEqual(["3 seats: 12 pounds. Book them?"])
  expect(await ana.says("/back")).toEqual(["How many seats?"])
  expect(await ana.says("4")).toEqual(["4 seats: 16 pounds. Book them?"])
  expect(await ana.says("/cancel")).toEqual(["As you like."])
})

test("another route answers in between, then the question stands again; what only fits by chance does not", async () => {
  const ana = await somebody()
  await ana.says("book")
  expect(await ana.says("when is high tide", 2)).toEqual([
    "High tide is at 14:20.",
    "Which day would you like to cross?",
  ])
  // An aside that is an interview sets the first aside, and a third is refused.
  expect(await ana.says("leave a note")).toEqual(["What shall I note?"])
  expect(await ana.says("when is high tide")).toEqual(["For whom?"])
  expect(await ana.says("count everything", 2)).toEqual([
    expect.stringContaining("One thing after the other"),
    "For whom?",
  ])
  expect(await ana.says("holm", 2)).toEqual(["Noted for holm.", "Which day would you like to cross?"])
  expect(await ana.says("friday")).toEqual(["How many seats?"])
  const [{ state }] = (await query<{ state: object }>(
    place.database,
    "SELECT state FROM states JOIN conversations ON id = conversation WHERE address = '" + ana.id + "'",
  )) as [{ state: object }]
  expect(state).toEqual({ note: "when is high tide", which: "holm", steady: true, same: true })
})

test("options are buttons; several are picked one by one; a check of the author's own is told, and has a way out", async () => {
  const ana = await somebody()
  await ana.says("count everything")
  expect(await ana.presses("Gull")).toEqual(["Which boats?"])
  const [shown] = (await stage.answers(ana.id)).slice(-1)
  expect(shown!.reply_markup!.inline_keyboard.flat().map(({ text }) => text)).toEqual([
    "✓ Gull",
    "Tern",
    "Puffin",
    "That is all",
  ])
  await ana.presses("Puffin")
  expect(await ana.presses("That is all")).toEqual(["What did you take along?"])
  expect(await ana.says("a coat", 2)).toEqual(["It must be at least 2.", "What did you take along?"])
  expect(await ana.says("a coat and two hats")).toEqual(["And your name?"])
  expect(await ana.says("A", 2)).toEqual(["That is too short a name.", "And your name?"])
  expect(await ana.says("B", 3)).toEqual(["Gull+Puffin", "a coat+two hats", "nobody"])
})

test("a side effect of a plain handler runs once a name and occurrence", async () => {
  const ana = await somebody()
  expect(await ana.says("code")).toEqual(["1 2"])
})

test("an interview that does something absurd is parked with its fault, and hurts nobody else", async () => {
  const faults: string[] = []
  for (const what of ["starless", "number", "hollow", "endless", "finally", "thrown"]) {
    const ana = await somebody()
    await stage.send({ from: ana.id, text: `odd ${what}` })
    if (what === "finally") {
      expect(await ana.hears(1)).toEqual(["Say something"])
      await stage.send({ from: ana.id, text: "hm" })
    }
    const parked = await eventually(
      async () => {
        const { items } = await service.client.parked({ channel: stage.key })
        return items.length > faults.length ? items : undefined
      },
      `the fault of ${what}`,
      60,
    )
    faults.push(parked[0]!.reason)
  }
  expect(faults).toEqual([
    expect.stringContaining("without a star"),
    expect.stringContaining("yields 7, which is no step"),
    expect.stringMatching(/cannot be kept|Cannot read/),
    expect.stringContaining("more than 500 steps"),
    expect.stringContaining("a fault in the end"),
    expect.stringContaining("no boat today"),
  ])
}, 120_000)

test("an interview whose journal is full ends with a word, and the person can go on", async () => {
  const ana = await somebody()
  await ana.says("pile up", 2)
  await ana.says("rope", 2)
  expect(await ana.says("nets", 2)).toEqual(["That makes 3.", "What else?"])
  const [word] = await ana.says("floats")
  expect(word).toMatch(/too long/)
  const [interview] = await query<{ ended: string; why: string }>(
    place.database,
    "SELECT ended, why FROM interviews WHERE handler = 'pile' ORDER BY id DESC LIMIT 1",
  )
  expect(interview).toMatchObject({ ended: "too long", why: expect.stringContaining("more than 256 kB") })
  expect(await ana.says("high tide")).toEqual(["High tide is at 14:20."])
  expect((await service.client.parked({ channel: stage.key })).items.filter(({ text }) => text === "floats")).toEqual(
    [],
  )
})

test("a pause ends by itself, what is expected is waited for, and both may go on beside other talk", async () => {
  const ana = await somebody()
  expect(await ana.says("wait for the boat")).toEqual(["I will tell you."])
  expect(await ana.says("high tide")).toEqual(["High tide is at 14:20."])
  expect(await ana.hears(1)).toEqual(["It is in sight."])
  expect(await ana.says("thank you")).toEqual(["You are welcome."])
  await ana.says("wait for the boat")
  expect(await ana.hears(2)).toEqual(["It is in sight.", "Nobody thanks me."])
  // A time that is over has a passage of its own, from either end.
  const [last] = await stage.messages({ direction: "out", text: "Nobody thanks me" })
  const passage = await service.client.passage(last!.id)
  expect(passage.paths[0]!.message).toMatchObject({
    event: "interview",
    text: "(the time for what was expected is over)",
  })
  expect(passage.stops.map(({ state }) => state).slice(0, 6)).toEqual([
    ...Array(3).fill("skipped"),
    "done",
    "done",
    "done",
  ])
  expect((await service.client.passage(passage.id)).paths[0]!.turns).toMatchObject([{ handler: "boat" }])
  expect((await run(["passage", last!.id], service.env)).out).toMatch(
    /Of an interview\n.*the time for what was expected/,
  )
})

test("an interview leaves a conversation to a person", async () => {
  const ana = await somebody()
  expect(await ana.says("hand over")).toEqual(["Somebody will be with you."])
  await stage.send({ from: ana.id, text: "high tide" })
  const heard = await eventually(async () => {
    const { items } = await service.client.messages({ channel: stage.key, limit: 5 })
    return items.find(
      (one) => one.text === "high tide" && one.address === String(ana.id) && one.status === "left to a person",
    )
  }, "the message that is left to a person")
  expect(heard).toBeDefined()
})

test("who waits for a person is listed; one takes it by name, another cannot; given back, the bot answers", async () => {
  const ana = await somebody("Ana")
  await ana.says("hand over")
  const wobbet = (...args: string[]) => run(args, service.env)
  const [waiting] = (await service.client.conversations({ waiting: true, limit: 200 })).items.slice(-1)
  expect(waiting).toMatchObject({ address: String(ana.id), answeredBy: "person", takenBy: null })
  expect((await wobbet("conversation", "list", "--waiting")).out).toMatch(/nobody yet/)
  const taken = await wobbet("conversation", "take", waiting!.id)
  expect([taken.code, taken.out]).toEqual([0, expect.stringContaining("is yours: the bot is silent there")])
  const { token } = await service.client.makeToken("ben", "operator")
  const ben = new Client(service.address, token)
  await expect(ben.takeConversation(waiting!.id)).rejects.toMatchObject({ status: 412 })
  expect((await wobbet("conversation", "give-back", waiting!.id)).code).toBe(0)
  expect(await ana.says("high tide")).toEqual(["High tide is at 14:20."])
})

test("somebody who is blocked is not answered, times of theirs wait, and both go on when that is lifted", async () => {
  const ana = await somebody("Ana")
  await ana.says("wait for the boat")
  const { items } = await service.client.people({ channel: stage.key, text: String(ana.id) })
  const { contact } = items[0]!
  await service.client.blockPerson(contact, true)
  expect((await run(["contact", "block", contact], service.env)).out).toContain("is blocked")
  await stage.send({ from: ana.id, text: "high tide" })
  await eventually(async () => (await stage.messages({ status: "blocked" }))[0], "the message that is blocked")
  await pause(4500)
  expect(await stage.answers(ana.id)).toHaveLength(1)
  expect((await run(["contact", "block", contact, "--off"], service.env)).out).toContain("is answered again")
  expect(await ana.hears(1)).toEqual(["It is in sight."])
})

test("where an interview stands is shown, and a person steps it back or ends it", async () => {
  const ana = await somebody("Ana")
  await ana.says("book")
  await ana.says("friday")
  const { items } = await service.client.conversations({ channel: stage.key, text: String(ana.id) })
  const { id } = items[0]!
  const wobbet = (...args: string[]) => run(args, service.env)
  const shown = (await wobbet("conversation", "show", id)).out
  expect(shown).toMatch(/interview booking with Ana: asks “How many seats\?”, until /)
  expect(shown).toMatch(/Which day would you like to cross\? \d{4}-\d{2}-\d{2}/)
  expect((await wobbet("conversation", "back", id)).code).toBe(0)
  expect(await ana.hears(1)).toEqual(["Which day would you like to cross?"])
  expect((await wobbet("conversation", "end", id)).code).toBe(0)
  await eventually(
    async () => (await service.client.conversation(id)).interviews[0]!.ended === "ended by hand",
    "the end of the interview",
  )
  expect((await wobbet("conversation", "end", id)).err).toContain("No interview runs in")
  expect(await ana.says("friday")).toEqual(["Ask me about the tide."])
})

test("a state is edited where it has not changed meanwhile, on record; what was said before is told", async () => {
  const ana = await somebody("Ana")
  await ana.says("my size is large")
  const { items } = await service.client.conversations({ channel: stage.key, text: String(ana.id) })
  const { id } = items[0]!
  const { stateTag } = await service.client.conversation(id)
  await service.client.changeState(id, { topic: "lost" }, stateTag)
  await expect(service.client.changeState(id, { topic: "found" }, stateTag)).rejects.toMatchObject({ status: 412 })
  const edited = await run(["conversation", "state", id, "--set", '{"topic":"lost","seats":2}'], service.env)
  expect(edited.out).toBe("seats: nothing → 2\n")
  expect((await service.client.audit({ did: "state edited" })).items).toHaveLength(2)
  expect(await ana.says("what was said")).toEqual(["in my size is large | out Noted."])
  const [person] = (await service.client.people({ channel: stage.key, text: String(ana.id) })).items
  expect((await service.client.person(person!.contact)).fields).toEqual({ size: "large" })
})

test("STOP on a kind without such words ends what starts from us, and no answer", async () => {
  const ana = await somebody("Ana")
  await ana.says("wait for the boat")
  await ana.says("stop")
  expect(await ana.says("high tide")).toEqual(["High tide is at 14:20."])
  const said = (await stage.answers(ana.id)).length
  await pause(4500)
  expect(await stage.answers(ana.id)).toHaveLength(said)
  const [person] = (await service.client.people({ channel: stage.key, text: String(ana.id) })).items
  const { conversations } = await service.client.person(person!.contact)
  const { id, noNotices } = conversations[0]!
  expect(noNotices).not.toBeNull()
  const items = (await service.client.conversationMessages(id, { limit: 20 })).items
  expect(items.find(({ event }) => event === "interview")).toMatchObject({
    status: "opted out",
    reason: "the person has asked to be sent nothing that starts here",
  })
  expect((await service.client.conversation(id)).interviews[0]).toMatchObject({ stands: "ended" })

  // An application may answer what was just said, and nothing later.
  await service.client.send({ to: id, text: "About your boat" })
  await query(
    place.database,
    `UPDATE messages SET received_at = received_at - interval '20 minutes' WHERE conversation = '${id}'`,
  )
  const late = service.client.send({ to: id, text: "Weather hold" })
  await expect(late).rejects.toMatchObject({
    status: 409,
    message: expect.stringContaining("nothing that starts here") as unknown,
  })
  await ana.says("START", 2)
  await service.client.send({ to: id, text: "Weather hold" })
  expect((await service.client.person(person!.contact)).conversations[0]!.noNotices).toBeNull()
}, 60_000)

test("one person on two channels: joined, remembered on both, asked on in the middle of it, and split again", async () => {
  const ana = await somebody("Ana")
  await ana.says("my size is small")
  const on = await setKind(service, "sms", { gather: 0 })
  await on.says("book")
  await on.answered(1)
  const contactOn = async (channel: string, text?: string) =>
    (await service.client.people({ channel, ...(text === undefined ? {} : { text }) })).items[0]!
  const [first, second] = [await contactOn(stage.key, String(ana.id)), await contactOn(on.key)]
  const joined = await run(["contact", "join", first.contact, second.contact], service.env)
  expect([joined.code, joined.out]).toEqual([0, expect.stringContaining('size: "small"')])
  expect(joined.out).toContain(`${second.address} on ${on.key}`)
  expect(joined.out).toContain("interview booking, asks")
  await on.says("friday")
  expect((await on.answered(2))[1]!.text).toContain("How many seats?")
  await on.says("my size is large")
  await on.answered(4)
  expect((await service.client.person(first.contact)).fields).toEqual({ size: "large" })
  expect((await run(["contact", "show", second.contact], service.env)).err).toContain("There is no person")
  const split = await run(["contact", "split", first.contact, on.key, second.address], service.env)
  expect(split.out).toContain(`${second.address} on ${on.key}`)
  expect((await service.client.person(first.contact)).addresses).toHaveLength(1)
  await on.says("2")
  expect((await on.answered(5))[4]!.text).toContain("2 seats: 8 pounds")
  expect(await ana.says("who am i")).toEqual(['Ana {"size":"large"} 1'])
  await expect(service.client.joinPeople(first.contact, first.contact)).rejects.toMatchObject({ status: 400 })
  await expect(service.client.splitPerson(first.contact, on.key, "nobody")).rejects.toMatchObject({ status: 404 })
})

/**
 * Makes somebody another person, as a join does, and tells no process of it: such a word may be lost.
 *
 * @param interviews whether those that run are made theirs as well; one that was begun meanwhile is not
 */
async function becomeAnother(channel: string, address: number, interviews: boolean): Promise<void> {
  const [{ contact } = { contact: "" }] = await query<{ contact: string }>(
    place.database,
    `SELECT contact FROM addresses WHERE channel = '${channel}' AND address = '${address}'`,
  )
  const other = contact.replace(/^con_../, "con_zz")
  for (const sql of [
    `INSERT INTO contacts (id, name) VALUES ('${other}', 'Ana')`,
    `UPDATE addresses SET contact = '${other}' WHERE contact = '${contact}'`,
    `UPDATE conversations SET contact = '${other}' WHERE contact = '${contact}'`,
    ...(interviews ? [`UPDATE interviews SET who = '${other}' WHERE who = '${contact}'`] : []),
    `DELETE FROM contacts WHERE id = '${contact}'`,
  ])
    await query(place.database, sql)
}

test.each([
  ["in a process that was not told", true],
  ["while it was begun", false],
])("somebody who is joined with another %s answers their interview all the same", async (_where, interviews) => {
  const ana = await somebody("Ana")
  const [day] = await ana.says("book")
  expect(day).toContain("Which day")
  await becomeAnother(stage.key, ana.id, interviews)
  expect(await ana.says("friday")).toEqual([expect.stringContaining("How many seats?")])
  expect(await ana.says("2")).toEqual([expect.stringContaining("2 seats: **8 pounds**".replaceAll("*", ""))])
  const { items } = await service.client.conversations({ text: String(ana.id) })
  const { interviews: running } = await service.client.conversation(items[0]!.id)
  expect(running).toMatchObject([{ handler: "booking", stands: "asks", name: "Ana" }])
})

test("an interview within another, what is remembered of a person, and leaving to a route", async () => {
  const ana = await somebody("Ana")
  expect(await ana.says("in parts")).toEqual(["Which street?"])
  expect(await ana.says("Quay Street", 2)).toEqual(["Now the tide.", "High tide is at 14:20."])
  const [person] = (await service.client.people({ channel: stage.key, text: String(ana.id) })).items
  expect((await service.client.person(person!.contact)).fields).toEqual({ street: "Quay Street", by: "Ana" })
})

test.each([
  ["say", ["So be it."]],
  ["leave", ["High tide is at 14:20."]],
  ["nothing", ["Let us leave it there. You can begin again at any time."]],
])("after too many tries the way out is taken: %s", async (how, wanted) => {
  const ana = await somebody("Ana")
  expect(await ana.says(`try me ${how}`)).toEqual(["A number?"])
  expect(await ana.says("none", 2)).toEqual(["I need a whole number, such as 2.", "A number?"])
  expect(await ana.says("none")).toEqual(wanted)
})

test("a bot's own words leave a question, in the person's language", async () => {
  const ana = await somebody("Ana", "pt")
  await ana.says("book")
  expect(await ana.says("Enough of this")).toEqual(["Como quiser."])
})

test("the person is reminded before the time for an answer is over, and told when it is", async () => {
  const [ana, ben] = [await somebody("Ana"), await somebody("Ben")]
  await Promise.all([ana.says("hurry"), ben.says("hurry")])
  const again = ["Still there?", "Quick, a word?"]
  expect(await Promise.all([ana.hears(2), ben.hears(2)])).toEqual([again, again])
  expect(await ana.says("here")).toEqual(["In time: here"])
  expect(await ben.hears(1)).toEqual(["Too late."])
  expect(await ben.says("here")).toEqual(["Ask me about the tide."])
})

test("the time for an answer begins when the question was sent, however long that takes", async () => {
  const ana = await somebody("Ana")
  // The provider asks for patience with the question, for longer than its time would be.
  await standin.post("faults", { kind: "429", method: "sendMessage", count: 1, seconds: 7 })
  await stage.send({ from: ana.id, text: "hurry" })
  expect(await ana.hears(1)).toEqual(["Quick, a word?"])
  expect(await ana.says("here")).toEqual(["In time: here"])
})

test("fields of a person that are none are a fault of the handler's, told and parked", async () => {
  const ana = await somebody("Ana")
  await stage.send({ from: ana.id, text: "wrong fields" })
  const [message] = await eventually(async () => {
    const found = await stage.messages({ status: "parked", text: "wrong fields" })
    return found.length > 0 ? found : undefined
  }, "the message that is parked")
  expect(message!.reason).toContain("the person's fields cannot be kept: they are values by their names")
})

test("a stranger who begins one interview after the other is stopped at fifty, and answered all the same", async () => {
  const ana = await somebody("Ana")
  for (let n = 0; n < 50; n++) await stage.send({ from: ana.id, text: "wait for long" })
  await eventually(
    async () =>
      (await query(place.database, "SELECT 1 FROM interviews WHERE handler = 'long' AND ended_at IS NULL")).length ===
      50,
    "fifty interviews",
  )
  expect(await ana.says("wait for long")).toEqual([expect.stringContaining("One thing after the other")])
  expect(await ana.says("high tide")).toEqual(["High tide is at 14:20."])
})

test("a journal that somebody has edited ends its interview politely, with what does not fit", async () => {
  const ana = await somebody("Ana")
  await ana.says("book")
  await ana.says("friday")
  const { items } = await service.client.conversations({ channel: stage.key, text: String(ana.id) })
  const { id } = items[0]!
  const { id: interview } = (await service.client.conversation(id)).interviews[0]!
  await query(
    place.database,
    `UPDATE journal SET entry = '{"n": 2, "at": "2026-12-01T10:00:00Z", "did": "told", "said": "x"}' WHERE interview = '${interview}' AND n = 2`,
  )
  // Whoever has it at hand does not ask the journal.
  await query(place.database, `UPDATE interviews SET mark = 'edited' WHERE id = '${interview}'`)
  expect(await ana.says("3")).toEqual([expect.stringContaining("has changed meanwhile")])
  expect((await service.client.conversation(id)).interviews).toMatchObject([
    { ended: "changed", why: expect.stringContaining("entry 2 of the journal is something told") as unknown },
  ])
})

test("a state that is too large is parked at once, with the reason, and changes nothing", async () => {
  const ana = await somebody("Ana")
  await stage.send({ from: ana.id, text: "keep it all" })
  const [message] = await eventually(async () => {
    const found = await stage.messages({ status: "parked", text: "keep it all" })
    return found.length > 0 ? found : undefined
  }, "the message that is parked")
  expect(message!.reason).toContain("the new state has more than 256 kB")
  expect((await service.client.conversation(message!.conversation)).state).toEqual({})
})

test("an interview that does not do the same each time is told of, with its line", async () => {
  const ana = await somebody("Ana")
  await ana.says("drift")
  await eventually(async () => service.said().includes("does not do the same when it is run again"), "the report")
  expect(service.said()).toContain("handlers/drift.ts:4")
  const [heard] = await stage.messages({ text: "drift" })
  const { out } = await run(["passage", heard!.id], service.env)
  expect(out).toMatch(/it does not do the same when it is run again: step 2 was Number .*drift\.ts:4/)
})

test("two people in a group are asked apart, and do not answer for each other", async () => {
  const group = await standin.post<{ id: number }>("groups", {
    title: "Quay",
    type: "group",
    bots: [stage.bot.username],
  })
  const [ana, ben] = [await somebody("Ana"), await somebody("Ben")]
  const say = async (who: { id: number }, text: string, count: number) => {
    await stage.send({ from: who.id, chat: group.id, text })
    return (await stage.answered(count, group.id)).at(-1)!.text
  }
  expect(await say(ana, "book", 1)).toBe("Which day would you like to cross?")
  expect(await say(ben, "book", 2)).toBe("Which day would you like to cross?")
  await becomeAnother(stage.key, ana.id, false)
  expect(await say(ana, "tomorrow", 3)).toBe("How many seats?")
  expect(await say(ana, "2", 4)).toBe("2 seats: 8 pounds. Book them?")
  // Ben is still at his day: his yes is no answer to Ana's question.
  await stage.send({ from: ben.id, chat: group.id, text: "yes" })
  expect((await stage.answered(6, group.id)).slice(-2).map(({ text }) => text)).toEqual([
    expect.stringContaining("could not read a day"),
    "Which day would you like to cross?",
  ])
  await stage.send({ from: ana.id, chat: group.id, text: "yes" })
  expect((await stage.answered(8, group.id)).slice(-2).map(({ text }) => text)).toEqual([
    expect.stringContaining("Booked for Ana"),
    "Good day!",
  ])
})

test("an interview survives kill -9, and the journal of an unchanged handler", async () => {
  const ana = await somebody()
  await ana.says("book")
  await service.stop()
  const killed = await startProcess(place)
  await ana.says("friday")
  await killed.stop("SIGKILL")
  service = await startService(place)
  expect(await ana.says("5")).toEqual(["5 seats: 20 pounds. Book them?"])
  expect(await ana.says("no")).toEqual(["Good day!"])
}, 60_000)

test("a handler that was changed: an interview that still fits goes on, another ends politely, and both are told", async () => {
  const [ana, ben] = [await somebody("Ana"), await somebody("Ben")]
  await ana.says("book")
  await ben.says("book")
  await ben.says("friday")
  const changed = bot["handlers/booking.ts"]!.replace("How many seats?", "How many of you?")
  writeFileSync(join(place.bot, "handlers/booking.ts"), changed)
  await pause(3000)
  expect(await ana.says("friday")).toEqual(["How many of you?"])
  writeFileSync(
    join(place.bot, "handlers/booking.ts"),
    changed.replace(
      "const day",
      'const from = yield* answer.choice("From where?", ["Holm Island", "Tern Point"])\n  const day',
    ),
  )
  await pause(3000)
  expect(await ben.says("3")).toEqual([expect.stringContaining("has changed meanwhile")])
  await eventually(async () => service.said().includes("no longer fits it"), "the report in the log")
  expect(service.said()).toMatch(/entry|step 2 was .*a date.*one option/)
}, 60_000)

describe("on other kinds", () => {
  test.each(kindsWithStandins)("options can be told by words on %s", async (kind) => {
    const on = await setKind(service, kind, { gather: 0 })
    for (const [at, [text, answer]] of (
      [
        ["leave a note", "What shall I note?"],
        ["two hats", "For whom?"],
        ["the second one", "Noted for tern."],
      ] as const
    ).entries()) {
      await on.says(text)
      expect((await on.answered(at + 1))[at]!.text).toContain(answer)
    }
  })

  test("STOP ends what runs and the times it waits for, and another word leaves a question there", async () => {
    const on = await setKind(service, "sms", { gather: 0 })
    await on.says("book")
    await on.answered(1)
    await on.says("whenever")
    await on.answered(3)
    await on.says("someday")
    // The word "cancel" ends all sending there.
    expect((await on.answered(5))[3]!.text).toContain("Say “leave it” to leave it.")
    await on.says("HELP")
    expect((await on.answered(6))[5]!.text).toContain("STOP")
    await on.says("STOP")
    const left = await eventually(async () => {
      const found = await query<{ ended: string; timers: number }>(
        place.database,
        `SELECT i.ended, (SELECT count(*)::int FROM timers t WHERE t.interview = i.id) AS timers FROM interviews i
         JOIN conversations v ON v.id = i.conversation WHERE v.channel = '${on.key}'`,
      )
      return found[0]?.ended ? found : undefined
    }, "the end of the interview")
    expect(left).toEqual([{ ended: "stopped", timers: 0 }])
  })
})

test("in quiet hours nothing starts from the bot; who has just written is answered; after a silence a person gives back", async () => {
  const hour = (shift: number) => new Date(Date.now() + shift * 3_600_000).toISOString().slice(11, 16)
  const own = await placeFor({
    "bot.yaml": `
bot: quiet
groups: always
hours: { night: { zone: UTC, open: { daily: "${hour(-1)}-${hour(2)}" } } }
quiet: night
giveBack: 2s
routes: [{ name: wait, when: { phrase: "wait" }, handler: wait }, { name: hand, when: { phrase: "hand over" }, handler: hand }]
`,
    "handlers/hand.ts": `import { handler } from "wobbet"
export default handler(() => ({ replies: "One moment.", leave: "person" }))`,
    "handlers/wait.ts": `import { interview, pause } from "wobbet"
export default interview(function* () { yield* pause({ for: "3s" }); return "It is in sight." })`,
  })
  const still = await startService(own)
  const near = await Stage.set(still, standin)
  const ben = await standin.post<{ id: number }>("people", { first_name: "Ben" })
  await near.say("wait")
  await near.send({ from: ben.id, text: "wait" })
  await eventually(async () => (await query(own.database, "SELECT 1 FROM timers")).length === 2, "both times")
  await query(
    own.database,
    `UPDATE messages SET received_at = now() - interval '20 minutes' WHERE conversation =
       (SELECT id FROM conversations WHERE address = '${ben.id}')`,
  )
  await near.answered(1)
  await eventually(async () => {
    const [{ ahead }] = (await query(
      own.database,
      "SELECT extract(epoch FROM due_at - now())::int AS ahead FROM timers",
    )) as [{ ahead: number }]
    return ahead > 3600
  }, "the other time to be put off")
  expect(await near.answers(ben.id)).toEqual([])
  // A handler without questions hands over, too; after a silence the bot answers again, by itself.
  await near.say("hand over")
  await near.answered(2)
  await eventually(
    async () => (await still.client.audit({ did: "conversation given back" })).items.length === 1,
    "the conversation to be given back",
  )
  await near.say("hand over")
  expect((await near.answered(3))[2]!.text).toBe("One moment.")
  await still.stop()
}, 60_000)
