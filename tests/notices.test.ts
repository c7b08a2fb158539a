import { createHmac } from "node:crypto"
import { CloudEvent, HTTP } from "cloudevents"
import type { KindStage } from "./support/kinds.ts"
import { setKind } from "./support/kinds.ts"
import type { Service, Standin } from "./support/harness.ts"
import {
  endAll,
  eventually,
  pause,
  placeFor,
  query,
  run,
  Stage,
  startService,
  startStandin,
} from "./support/harness.ts"

let standin: Standin
let service: Service
let ines: Stage
let slack: KindStage
let room: string
let place: Awaited<ReturnType<typeof placeFor>>
const hook = "whsec_" + Buffer.from("the office signs with this").toString("base64")

const botFor = (key: string, place: string) => ({
  "bot.yaml": `
bot: tern
groups: always
hours: { night: { open: { daily: "00:00-23:59" } } }
applications:
  office: { secret: OFFICE_HOOK, type: kind, id: number, data: about }
notices:
  - on: claim.reassigned
    tell: [{ person: owner }, { place: ${place}, channel: ${key} }]
    people: { owner: owner, taker: taker }
    text: "Claim {{event.claim}} of {{people.owner.mention}} is {{people.taker.mention}}'s now."
    choices: [{ id: "claim:{{event.claim}}", label: "Look at {{event.claim}}" }]
  - on: boat.late
    tell: { tag: crew }
    gather: 2s
    text: "{{event.boat}} is late, {{to.name}}."
    many: "{{notice.count}} boats are late."
  - { on: quay.closed, tell: { place: CNOWHERE, channel: ${key} }, text: "Closed." }
  - { on: night.watch, tell: { tag: crew }, quiet: night, text: "Good night." }
  - { on: hello.all, tell: { tag: crew }, text: "Hello {{to.fields.rank}}, {{event.words}}" }
routes:
  - { name: hello, when: { phrase: hello }, handler: { text: "Hello {{contact.mention}}!" } }
  - { name: claim, when: { choice: "claim:*" }, handler: claim }
  - { name: asks, when: { phrase: "book" }, handler: booking }
`,
  "handlers/claim.ts": `import { handler } from "wobbet"
export default handler(({ message }) => "It is claim " + message.choice?.id.split(":")[1])`,
  "handlers/booking.ts": `import { answer, interview, tell } from "wobbet"
export default interview(function* () {
  const seats = yield* answer.integer("How many seats?", { min: 1, max: 8 })
  yield* tell("Booked " + seats)
})`,
})

beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor({ "bot.yaml": "bot: tern\nroutes: []" })
  service = await startService(place)
  slack = await setKind(service, "slack", { gather: 0 })
  room = (slack.standin as unknown as { world: { channels: { id: string }[] } }).world.channels[0]!.id
  await service.stop()
  service = await startService({ ...place, bot: (await placeFor(botFor(slack.key, room))).bot })
  await service.client.setSecret("OFFICE_HOOK", { value: hook, bot: "tern" })
  await eventually(
    async () => (await service.client.bot()).release !== undefined && (await service.client.bot()).faults.length === 0,
    "the bot",
  )
  ines = await Stage.set(service, standin, { gather: 0 })
  await ines.say("hello")
  await ines.answered(1)
  await slack.does("say", { channel: room, text: "hello" })
  await eventually(async () => (await slack.messages({ direction: "in" })).items.length > 0, "the desk")
}, 60_000)
afterAll(endAll)

const contactOf = async (channel: string) => {
  const found = (await service.client.people({ channel })).items[0]!
  return found.contact!
}

const atDesk = () => slack.standin.stage.screen(room).filter((one) => !one.mine && !one.gone)

test("a text that names the person mentions them as their channel does", async () => {
  const [hello] = await ines.answers()
  expect(hello).toMatchObject({
    text: "Hello Ines!",
    entities: [{ type: "text_link", url: `tg://user?id=${ines.person.id}` }],
  })
})

test("people of an application are matched by a field; whoever is not is listed with who would match", async () => {
  const event = {
    type: "claim.reassigned",
    data: { claim: "L-310", owner: "ines@ferry.example", taker: "mara@ferry.example" },
  }
  const tried = await service.client.tryNotice(event)
  expect(tried.not).toMatchObject([{ named: "ines@ferry.example", is: "unmatched" }])
  const [kept] = (await service.client.sendNotice(event)).items
  const found = await eventually(async () => {
    const { items } = await service.client.recipients(kept!.id)
    return items.length === 2 && items.some(({ state }) => state === "said") ? items : undefined
  }, "who is told")
  expect(found.find(({ state }) => state === "unmatched")).toMatchObject({
    named: "ines@ferry.example",
    like: expect.arrayContaining([
      expect.objectContaining({ name: "Ines", would: 'set their field "email" to ines@ferry.example' }),
    ]) as unknown,
  })
  const { out } = await run(["notice", "show", kept!.id], { WOBBET_URL: service.address, WOBBET_TOKEN: service.token })
  expect(out).toMatch(/unmatched ines@ferry\.example/)
  expect(out).toMatch(/Ines would match: set their field "email"/)
})

test("a claim's change is told to its owner and at the desk, with a real mention; pressed, it is answered", async () => {
  await service.client.markPerson(await contactOf(ines.key), {
    fields: { email: "Ines@ferry.example" },
    addTags: ["crew"],
  })
  await service.client.markPerson(await contactOf(slack.key), { fields: { email: "mara@ferry.example" } })
  const before = (await ines.answers()).length
  await service.client.sendNotice(
    { type: "claim.reassigned", data: { claim: "L-311", owner: "ines@ferry.example", taker: "mara@ferry.example" } },
    "claim-311",
  )
  const told = (await ines.answered(before + 1)).at(-1)!
  expect(told.text).toMatch(/^Claim L-311 of Ines is .+'s now\.$/)
  expect(told).toMatchObject({ entities: [{ type: "text_link", url: `tg://user?id=${ines.person.id}` }] })
  const [at] = await eventually(async () => {
    const found = atDesk().filter(({ text }) => text.includes("L-311"))
    return found.length > 0 ? found : undefined
  }, "the desk")
  const call = slack.standin.stage.calls.filter(({ body }) => JSON.stringify(body).includes("L-311")).at(-1)!
  expect(JSON.stringify(call.body)).toContain(`<@${slack.person}>`)
  expect(at!.text).toContain("Claim L-311 of Ines")
  await ines.press("Look at L-311")
  expect((await ines.answered(before + 2)).at(-1)!.text).toBe("It is claim L-311")
})

test("the same key tells once, and is refused for something else", async () => {
  const event = { type: "hello.all", data: { words: "the sea is calm" } }
  const before = (await ines.answers()).length
  const first = await service.client.sendNotice(event, "calm")
  const again = await service.client.sendNotice(event, "calm")
  expect(again.items).toEqual([{ ...first.items[0], known: true }])
  await expect(service.client.sendNotice({ ...event, data: { words: "no" } }, "calm")).rejects.toMatchObject({
    status: 422,
  })
  expect((await ines.answered(before + 1)).at(-1)!.text).toBe("Hello , the sea is calm")
  await pause(1500)
  expect((await ines.answers()).length).toBe(before + 1)
})

test("an event comes as a CloudEvent, checked by that specification's library, once for its source and id", async () => {
  const made = new CloudEvent({
    id: "e-1",
    source: "/harbour/office",
    type: "hello.all",
    data: { words: "as an event" },
  })
  expect(made.validate()).toBe(true)
  const { headers, body } = HTTP.structured(made)
  const post = () =>
    fetch(`${service.address}/api/v1/notices`, {
      method: "POST",
      headers: { ...(headers as { [name: string]: string }), authorization: `Bearer ${service.token}` },
      body: body as string,
    })
  const before = (await ines.answers()).length
  expect((await post()).status).toBe(202)
  expect((await post()).status).toBe(202)
  expect((await ines.answered(before + 1)).at(-1)!.text).toBe("Hello , as an event")
  await pause(1500)
  expect((await ines.answers()).length).toBe(before + 1)
})

test("an application posts its own JSON to its inlet, signed or with a word, and no one else", async () => {
  const body = JSON.stringify({ kind: "hello.all", number: 7, about: { words: "from the office" } })
  const at = String(Math.floor(Date.now() / 1000))
  const key = Buffer.from("the office signs with this")
  const signature = `v1,${createHmac("sha256", key).update(`m-1.${at}.${body}`).digest("base64")}`
  const post = async (headers: { [name: string]: string }, what = body) =>
    (await fetch(`${service.address}/in/tern/office`, { method: "POST", headers, body: what })).status
  const signed = { "webhook-id": "m-1", "webhook-timestamp": at, "webhook-signature": signature }
  const before = (await ines.answers()).length
  expect(await post({})).toBe(401)
  expect(await post(signed, body.replace("office", "pirates"))).toBe(401)
  expect(await post({ ...signed, "webhook-timestamp": String(Number(at) - 1000) })).toBe(401)
  expect(await post({ authorization: "Bearer guessed" })).toBe(401)
  expect(await post(signed)).toBe(202)
  expect(await post({ authorization: `Bearer ${hook}` })).toBe(202)
  expect(await post({ authorization: `Bearer ${hook}` }, "{")).toBe(400)
  expect(await post({ authorization: `Bearer ${hook}` }, JSON.stringify({ kind: "nothing.such", about: {} }))).toBe(400)
  // Nobody learns what there is: a wrong word, an application that is not there and a name that can be none are one.
  for (const path of ["tern/office", "tern/nobody", "nobody/office", "tern/%00app", `tern/${"x".repeat(300)}`]) {
    const refused = await fetch(`${service.address}/in/${path}`, { method: "POST", body })
    expect([path, refused.status, await refused.text()]).toEqual([path, 401, ""])
  }
  expect((await ines.answered(before + 1)).at(-1)!.text).toBe("Hello , from the office")
  await pause(1500)
  expect((await ines.answers()).length).toBe(before + 1)
  // Whoever guesses is held up, and is in the audit; whoever knows the word is not.
  const guesses = await Promise.all(Array.from({ length: 60 }, (_, n) => post({ authorization: `Bearer guess ${n}` })))
  expect(guesses.filter((status) => status === 429).length).toBeGreaterThan(30)
  expect(await post({ authorization: `Bearer ${hook}` }, "{")).toBe(400)
  expect((await service.client.audit()).items.map(({ did }) => did)).toContain(
    "calls that are not genuine were refused at an application's inlet",
  )
})

test("many at once become one; in quiet hours they wait", async () => {
  const before = (await ines.answers()).length
  for (const boat of ["Petrel", "Gannet", "Tern"])
    await service.client.sendNotice({ type: "boat.late", data: { boat } })
  expect((await ines.answered(before + 1)).at(-1)!.text).toBe("3 boats are late.")
  const [kept] = (await service.client.sendNotice({ type: "night.watch" })).items
  const [waits] = await eventually(async () => {
    const { items } = await service.client.recipients(kept!.id)
    return items.length > 0 ? items : undefined
  }, "the night watch")
  expect(waits).toMatchObject({ state: "waiting", why: "it is a quiet hour" })
  expect((await ines.answers()).length).toBe(before + 1)
})

test("a notice with choices waits while a question is open, and does not answer it", async () => {
  const before = (await ines.answers()).length
  await ines.say("book")
  await ines.answered(before + 1)
  const [kept] = (
    await service.client.sendNotice({ type: "claim.reassigned", data: { claim: "L-9", owner: "ines@ferry.example" } })
  ).items
  const own = async () => (await service.client.recipients(kept!.id)).items.find(({ contact }) => contact !== null)
  await eventually(async () => (await own())?.why === "a question is open there", "the notice to wait")
  await ines.say("4")
  await eventually(async () => (await own())?.state === "said", "the notice", 15)
  const said = (await ines.answered(before + 3)).slice(before).map(({ text }) => text)
  expect(said.slice(0, 2)).toEqual(["How many seats?", "Booked 4"])
  expect(said[2]).toMatch(/^Claim L-9/)
})

test("a notice with choices waits ten minutes at most; then it goes, and the question is put again", async () => {
  const before = (await ines.answers()).length
  await ines.say("book")
  await ines.answered(before + 1)
  const [kept] = (
    await service.client.sendNotice({ type: "claim.reassigned", data: { claim: "L-10", owner: "ines@ferry.example" } })
  ).items
  const own = async () => (await service.client.recipients(kept!.id)).items.find(({ contact }) => contact !== null)
  await eventually(async () => (await own())?.why === "a question is open there", "the notice to wait")
  // As if it had come eleven minutes ago.
  await query(
    place.database,
    `UPDATE recipients SET at = at - interval '11 minutes', due_at = now() WHERE notice = '${kept!.id}' AND state = 'waiting'`,
  )
  const said = (await ines.answered(before + 3)).slice(before).map(({ text }) => text!)
  expect(said[1]).toMatch(/^Claim L-10/)
  expect(said[2]).toMatch(/How many seats\?/)
  await ines.say("2")
  expect((await ines.answered(before + 4)).at(-1)!.text).toBe("Booked 2")
}, 60_000)

test("a try-out keeps nothing, not even a place", async () => {
  const count = async () =>
    (
      await query<{ n: number }>(
        place.database,
        "SELECT (SELECT count(*) FROM places) + (SELECT count(*) FROM notices) AS n",
      )
    )[0]!.n
  const before = await count()
  const tried = await service.client.tryNotice({ type: "quay.closed", data: {} })
  expect(tried).toMatchObject({ count: 1, told: [{ conversation: null, name: "CNOWHERE", part: { text: "Closed." } }] })
  expect(await count()).toBe(before)
})

test("what no bot tells, and what is no event, is refused with what there is", async () => {
  await expect(service.client.sendNotice({ type: "boat.sunk" })).rejects.toMatchObject({
    status: 400,
    message: expect.stringContaining('No bot has a notice for the event "boat.sunk"'),
  })
  const { code, err } = await run(["notice", "send", "boat late"], {
    WOBBET_URL: service.address,
    WOBBET_TOKEN: service.token,
  })
  expect(code).not.toBe(0)
  expect(err).toMatch(/an event's type is letters, digits/)
})

test("a try-out says what would be said, and says nothing", async () => {
  const before = (await ines.answers()).length
  const { out } = await run(["notice", "send", "hello.all", "--set", "words=a trial", "--try"], {
    WOBBET_URL: service.address,
    WOBBET_TOKEN: service.token,
  })
  expect(out).toMatch(/1 would be told:\n {2}Ines on /)
  expect(out).toContain("Hello , a trial")
  await pause(1200)
  expect((await ines.answers()).length).toBe(before)
})
