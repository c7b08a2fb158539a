import { readFileSync, statSync } from "node:fs"
import { join } from "node:path"
import type { Service, Standin } from "../support/harness.ts"
import {
  emptyDatabase,
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
  tempFolder,
} from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import type { KindStage } from "../support/kinds.ts"
import { setKind } from "../support/kinds.ts"

const bot: { [path: string]: string } = {
  "bot.yaml": `
bot: tern
groups: always
turnsPerMinute: 1000
routes:
  - { name: booking, when: { phrase: "book" }, handler: booking }
  - { name: note, when: { phrase: "note $text{note}" }, handler: note }
  - { name: slow, when: { phrase: "slow $text{note}" }, handler: slow }
  - { name: choose, when: { phrase: "choose" }, handler: { text: "Which?", choices: [ { id: a, label: Upper }, { id: b, label: Lower } ] } }
  - { name: photo, when: { media: any }, handler: { text: "A fine picture." } }
unrouted: help
`,
  "handlers/help.ts": `import { handler } from "wobbet"
export default handler(() => "Ask me about the tide.")`,
  "handlers/note.ts": `import { handler } from "wobbet"
export default handler(async ({ slots, once, log }) => {
  await once("noted", () => String(slots.note))
  console.log("noting " + slots.note)
  return { replies: "Noted: " + slots.note, state: { note: slots.note }, contact: { note: slots.note } }
})`,
  "handlers/slow.ts": `import { handler } from "wobbet"
export default handler(async ({ slots }) => {
  await new Promise((done) => setTimeout(done, 6000))
  return { replies: "Slowly noted: " + slots.note, state: { note: slots.note } }
})`,
  "handlers/booking.ts": `import { answer, interview } from "wobbet"
export default interview(function* () {
  const name = yield* answer.text("What is your name?")
  const seats = yield* answer.integer("How many seats, " + name + "?")
  return seats + " seats"
})`,
}

let standin: Standin
let service: Service
let stage: Stage
let phone: KindStage
let place: Awaited<ReturnType<typeof placeFor>>
beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor(bot)
  service = await startService(place)
  stage = await Stage.set(service, standin, { gather: 0 })
  phone = await setKind(service, "sms", { gather: 0 })
}, 60_000)
afterAll(endAll)

const wobbet = (...args: string[]) => run(args, { ...service.env, COLUMNS: "160" })

/** A person on Telegram whose name nobody else has. */
async function somebody(name: string) {
  const person = await standin.post<{ id: number }>("people", {
    first_name: name,
    username: `${name.toLowerCase()}_tern`,
  })
  const says = async (text: string, more: object = {}) => {
    await stage.send({ from: person.id, text, ...more })
  }
  const answered = (count: number) => stage.answered(count, person.id)
  const contact = async () =>
    (await eventually(
      async () => (await service.client.people({ channel: stage.key, text: String(person.id) })).items[0],
      "the contact",
    ))!.contact
  return { ...person, name, says, answered, contact }
}

/** Every table that holds any of these texts, as text or in bytes, with how many rows of it do. */
async function tablesWith(database: string, texts: string[]): Promise<{ [table: string]: number }> {
  const tables = await query<{ name: string }>(
    database,
    `SELECT relname AS name FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p') AND NOT relispartition`,
  )
  const found: { [table: string]: number } = {}
  for (const { name } of tables) {
    const fits = texts
      .flatMap((text) => [text, Buffer.from(text).toString("hex")])
      .map((text) => `t::text ILIKE '%${text}%'`)
      .join(" OR ")
    const [{ n }] = (await query<{ n: number }>(
      database,
      `SELECT count(*)::int AS n FROM ${name} t WHERE ${fits}`,
    )) as [{ n: number }]
    if (n > 0) found[name] = n
  }
  return found
}

longTest(
  "a code said on a second channel makes them one person there, once, and not after five wrong ones",
  async () => {
    const ada = await somebody("Adalind")
    await ada.says("note seven")
    await ada.answered(1)
    const contact = await ada.contact()
    const made = await wobbet("contact", "join", contact)
    const code = /code: (\S+)/.exec(made.out)![1]!
    expect(made.out).toContain(`makes them ${contact} there, too`)
    expect(await tablesWith(place.database, [code])).toEqual({})

    await phone.says(code.toLowerCase().replace("-", " "))
    expect((await phone.answered(1)).at(-1)!.text).toBe("Done: you are known here as the same person.")
    const joined = await service.client.person(contact)
    expect(joined.addresses.map(({ channel }) => channel).sort()).toEqual([phone.key, stage.key].sort())
    expect(joined.fields).toEqual({ note: "seven" })
    const shown = await wobbet("passage", (await phone.messages({ direction: "in" })).items[0]!.id)
    expect(shown.out).toContain("who said it is known here as the same person")
    expect((await service.client.audit({ did: "people joined" })).items[0]).toMatchObject({ detail: { contact } })

    // It was used: said again, it is a message like any other.
    await phone.says(code)
    expect((await phone.answered(2)).at(-1)!.text).toBe("Ask me about the tide.")
    await wobbet(
      "contact",
      "split",
      contact,
      phone.key,
      joined.addresses.find((one) => one.channel === phone.key)!.address,
    )
    const next = (await service.client.makeJoinCode(contact)).code
    for (let n = 0; n < 5; n++) await phone.says(`AB2${n + 2}-CD${n + 2}2`)
    await phone.answered(7)
    await phone.says(next)
    expect((await phone.answered(8)).at(-1)!.text).toBe("Ask me about the tide.")
    expect((await service.client.person(contact)).addresses).toHaveLength(1)
    // Whoever guesses spoils it for nobody else.
    const other = await setKind(service, "sms", { gather: 0 })
    await other.says(next)
    await other.answered(1)
    expect((await service.client.person(contact)).addresses).toHaveLength(2)
    await expect(service.client.makeJoinCode("con_nobody")).rejects.toMatchObject({ status: 404 })
  },
  60_000,
)

test("somebody forgotten leaves nothing that tells of them: not what they said, not what was answered, in any table", async () => {
  const [zelda, ben] = [await somebody("Zeldarine"), await somebody("Benedikt")]
  const group = await standin.post<{ id: number }>("groups", {
    title: "Quay",
    type: "group",
    bots: [stage.bot.username],
  })
  await zelda.says("note wharfmouse one")
  await zelda.says("book")
  await zelda.says("Wharfmouse Zeldarine")
  await zelda.answered(3)
  await zelda.says("wharfmouse in the harbour", { chat: group.id })
  await ben.says("note benword", { chat: group.id })
  await stage.answered(2, group.id)
  await zelda.says("choose", { chat: group.id })
  await stage.answered(3, group.id)
  await stage.send({ from: zelda.id, photo: "wharf", caption: "wharfmouse" })
  for (const { id } of [zelda, ben]) await stage.send({ from: id, photo: "quay" })
  await stage.answered(1, ben.id)
  const pictures = () => query<{ n: number }>(place.database, "SELECT count(*)::int AS n FROM media")
  await eventually(async () => (await pictures())[0]!.n === 2, "the pictures")
  // The same person on another channel, where they want no more messages.
  await phone.says("hello")
  const before = await eventually(
    async () => (await service.client.people({ channel: phone.key })).items[0],
    "the person on the phone",
  )
  const contact = await zelda.contact()
  await service.client.joinPeople(contact, before.contact)
  await phone.says("note wharfmouse by phone")
  await phone.says("stop")
  await eventually(
    async () => (await service.client.messages({ channel: phone.key, text: "stop" })).items[0]?.status === "opted out",
    "the wish",
  )
  // A call that names them and was refused.
  const forged = JSON.stringify({ message: { from: { id: zelda.id }, text: "wharfmouse forged" } })
  await fetch(`${service.address}/in/${stage.key}`, { method: "POST", body: forged })
  await eventually(
    async () => (await service.client.passages({ channel: stage.key, genuine: false })).items[0],
    "the refused call",
  )
  const number = before.address.replace("+", "")
  const traces = ["wharfmouse", "zeldarine", number, String(zelda.id)]
  const had = await tablesWith(place.database, traces)
  expect(Object.keys(had)).toEqual(
    expect.arrayContaining(["messages", "intakes", "turns", "states", "journal", "onces", "addresses", "contacts"]),
  )
  const find = async () => (await wobbet("message", "find", "wharfmouse")).out
  expect(await find()).toContain("wharfmouse by phone")
  const counted = async () =>
    (
      await query<{ messages: number; turns: number; calls: number }>(
        place.database,
        "SELECT count(*)::int AS messages, (SELECT count(*)::int FROM turns) AS turns, (SELECT count(*)::int FROM intakes) AS calls FROM messages",
      )
    )[0]!
  const recordedBefore = await counted()

  expect((await wobbet("contact", "forget", contact)).err).toContain("Repeat it with --yes")
  const done = await wobbet("contact", "forget", contact, "--yes")
  expect([done.code, done.err]).toEqual([0, ""])
  expect(done.out).toMatch(/● con_\w+ is forgotten\.\n {2}Removed: \d+ messages they sent, \d+ answers, /)

  const left = await tablesWith(place.database, traces)
  // A repetition of a call must still be known as one.
  delete left.seen
  expect(left).toEqual({})
  expect(await find()).toContain("No message fits")
  expect((await pictures())[0]!.n).toBe(1)
  // No row is taken out; a report of delivery may have come meanwhile.
  const { calls, ...rest } = await counted()
  const { calls: callsBefore, ...restBefore } = recordedBefore
  expect(rest).toEqual(restBefore)
  expect(calls).toBeGreaterThanOrEqual(callsBefore)
  // What others said is there.
  expect((await service.client.messages({ channel: stage.key, text: "benword" })).items.length).toBeGreaterThan(0)
  expect((await wobbet("contact", "show", contact)).err).toContain("There is no person")
  expect((await service.client.audit({ did: "person forgotten" })).items[0]).toMatchObject({ detail: { contact } })
  expect((await service.client.audit({ did: "people joined" })).items.at(0)).not.toHaveProperty("detail")

  const open = await query(place.database, "SELECT 1 FROM parked WHERE cause = 'forgotten' AND decided_at IS NULL")
  expect(open).toEqual([])
  // The passages are still there, and say what happened to them.
  const [gone] = await query<{ id: string; conversation: string }>(
    place.database,
    "SELECT id, conversation FROM messages WHERE event = 'forgotten' AND direction = 'in' ORDER BY id LIMIT 1",
  )
  expect((await wobbet("passage", gone!.id)).out).toMatch(/forgotten/)
  expect((await wobbet("conversation", "show", gone!.conversation)).out).toContain("(forgotten)")
  await expect(service.client.send({ to: gone!.conversation, text: "Hello?" })).rejects.toMatchObject({ status: 410 })

  // Whoever writes again is somebody new, and still wants nothing where they had said so.
  await phone.says("note again")
  const again = await eventually(
    async () => (await service.client.messages({ channel: phone.key, text: "again", direction: "in" })).items[0],
    "the message",
  )
  await eventually(async () => (await service.client.message(again!.id)).status === "opted out", "the kept wish")
  await zelda.says("note hello")
  await eventually(async () => (await zelda.answered(1)).at(-1)!.text === "Noted: hello", "the answer")
  expect(await zelda.contact()).not.toBe(contact)
}, 90_000)

test("a turn that runs meanwhile brings nothing back", async () => {
  const una = await somebody("Unarine")
  await una.says("slow dormouse")
  await eventually(
    async () => (await stage.messages({ text: "dormouse" }))[0]?.status === "being handled",
    "the turn",
    20,
  )
  const { id } = await service.client.forgetPerson(await una.contact())
  await eventually(async () => (await service.client.forgetting(id)).endedAt !== null, "the end")
  await pause(5000)
  expect(await stage.answers(una.id)).toEqual([])
  const left = await tablesWith(place.database, ["dormouse", "unarine"])
  delete left.seen
  expect(left).toEqual({})
}, 60_000)

longTest(
  "somebody who writes while a process still has them at hand is not lost, and is somebody new",
  async () => {
    const ivo = await somebody("Ivorine")
    await ivo.says("note first")
    await ivo.answered(1)
    const contact = await ivo.contact()
    await service.client.forgetPerson(contact)
    await ivo.says("note second")
    await eventually(async () => (await ivo.answered(2)).at(-1)!.text === "Noted: second", "the answer")
    const next = await ivo.contact()
    expect(next).not.toBe(contact)
    await pause(4500)
    expect((await stage.messages({ text: "second", direction: "in" }))[0]).toMatchObject({ status: "handled" })
  },
  60_000,
)

longTest(
  "a process that ends in the middle leaves the rest to the next",
  async () => {
    const uma = await somebody("Umarine")
    await uma.says("note fieldmouse")
    await uma.answered(1)
    const contact = await uma.contact()
    for (const fault of ["forgetting: begun=kill", "forgetting: piece removed=kill@2"]) {
      await service.stop()
      const ending = await startProcess({ ...place, faults: fault })
      service = ending
      stage = new Stage(service, standin, stage.bot, stage.person, stage.key)
      await service.client.forgetPerson(contact).catch(() => undefined)
      await ending.ended
    }
    service = await startService(place)
    stage = new Stage(service, standin, stage.bot, stage.person, stage.key)
    await eventually(
      async () => (await query(place.database, "SELECT 1 FROM forgettings WHERE ended_at IS NULL")).length === 0,
      "the end",
    )
    const left = await tablesWith(place.database, ["fieldmouse", "umarine"])
    delete left.seen
    expect(left).toEqual({})
  },
  90_000,
)

longTest(
  "a backup that is older than a forgetting is restored without them",
  async () => {
    const eva = await somebody("Evarine")
    await eva.says("note harvestmouse")
    await eva.answered(1)
    const folder = join(tempFolder(), "before")
    expect((await run(["backup", folder], service.env)).code).toBe(0)
    const { id } = await service.client.forgetPerson(await eva.contact())
    await eventually(async () => (await service.client.forgetting(id)).endedAt !== null, "the end")
    const list = join(place.home, "forgotten.jsonl")
    expect(statSync(list).mode & 0o077).toBe(0)
    expect(readFileSync(list, "utf8")).not.toMatch(new RegExp(`${eva.id}|evarine`, "i"))
    await service.stop()
    const database = await emptyDatabase()
    const restored = await run(["restore", folder], { ...service.env, DATABASE_URL: database })
    expect([restored.code, restored.err]).toEqual([0, ""])
    expect(restored.out).toContain("Forgotten again, since they asked for it after the backup: 1 person.")
    const left = await tablesWith(database, ["harvestmouse", "evarine"])
    delete left.seen
    expect(left).toEqual({})
  },
  90_000,
)
