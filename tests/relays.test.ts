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
let other: Stage
let slack: KindStage
let room: string
let forum: { id: number }
let hall: { id: number }
let place: Awaited<ReturnType<typeof placeFor>>

const botFor = (desk: string, here: string, there: string, forum: number, hall: number) => ({
  "bot.yaml": `
bot: tern
groups: always
also:
  - { name: photos, when: { media: image, kind: telegram }, relay: { to: ${desk}, threads: true } }
  - { name: everything, when: { not: { event: joined }, channel: ${here.split(",")[0]} }, relay: { to: ${desk}, threads: true } }
  - { name: ring one, when: { phrase: "round $GARBAGE", channel: ${there.split(",")[0]} }, relay: { to: { channel: ${here.split(",")[0]}, place: "${here.split(",")[1]}" }, names: false } }
  - { name: ring two, when: { phrase: "round $GARBAGE", channel: ${here.split(",")[0]} }, relay: { to: { channel: ${there.split(",")[0]}, place: "${there.split(",")[1]}" }, names: false } }
  - { name: aboard, when: { phrase: "aboard $GARBAGE", kind: slack }, relay: { to: { channel: ${here.split(",")[0]}, place: "${here.split(",")[1]}" } } }
  - { name: pier, when: { phrase: "pier $GARBAGE" }, relay: { to: { channel: ${there.split(",")[0]}, place: "${forum}" }, threads: true } }
  - { name: hall, when: { phrase: "hall $GARBAGE" }, relay: { to: { channel: ${there.split(",")[0]}, place: "${hall}" }, threads: true } }
  - { name: bridge there, when: { phrase: "$GARBAGE bridge $GARBAGE", channel: ${here.split(",")[0]} }, relay: { to: { channel: ${there.split(",")[0]}, place: "${there.split(",")[1]}" } } }
  - { name: bridge back, when: { phrase: "$GARBAGE bridge $GARBAGE", channel: ${there.split(",")[0]} }, relay: { to: { channel: ${here.split(",")[0]}, place: "${here.split(",")[1]}" } } }
  - { name: tunnel there, when: { phrase: "$GARBAGE tunnel $GARBAGE", channel: ${here.split(",")[0]} }, relay: { to: { channel: ${there.split(",")[0]}, place: "${there.split(",")[1]}" }, names: false } }
  - { name: tunnel back, when: { phrase: "$GARBAGE tunnel $GARBAGE", channel: ${there.split(",")[0]} }, relay: { to: { channel: ${here.split(",")[0]}, place: "${here.split(",")[1]}" }, names: false } }
  - { name: bollard, when: { phrase: "bollard" }, relay: { to: { channel: ${there.split(",")[0]}, place: "4711" } } }
  - { name: nowhere, when: { phrase: "nowhere" }, relay: { to: { channel: gone, place: "1" } } }
routes:
  - { name: shout, when: { phrase: "shout" }, handler: { relay: { to: ${desk}, names: false } } }
  - { name: hello, when: { phrase: "hello" }, handler: { text: "Hello!" } }
  - { name: nowhere, when: { phrase: "nowhere" }, handler: { text: "Said all the same." } }
`,
})

beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor({ "bot.yaml": "bot: tern\nroutes: []" })
  service = await startService(place)
  slack = await setKind(service, "slack", { gather: 0 })
  room = (slack.standin as unknown as { world: { channels: { id: string }[] } }).world.channels[0]!.id
  ines = await Stage.set(service, standin, { gather: 0 })
  other = await Stage.set(service, standin, { gather: 0 })
  const group = (title: string, forum: boolean) =>
    standin.post<{ id: number }>("groups", { title, type: "supergroup", forum, bots: [other.bot.username] })
  ;[forum, hall] = [await group("Pier", true), await group("Hall", false)]
  await service.stop()
  const desk = `{ channel: ${slack.key}, place: ${room} }`
  const bot = botFor(desk, `${ines.key},${ines.person.id}`, `${other.key},${other.person.id}`, forum.id, hall.id)
  service = await startService({ ...place, bot: (await placeFor(bot)).bot })
  ines = new Stage(service, standin, ines.bot, ines.person, ines.key)
  other = new Stage(service, standin, other.bot, other.person, other.key)
  await eventually(async () => (await service.client.bot()).release !== undefined, "the bot")
  await slack.does("say", { channel: room, text: "good morning" })
  await other.say("hello")
  await other.answered(1)
}, 60_000)
afterAll(endAll)

const atDesk = () => slack.standin.stage.screen(room).filter((one) => !one.mine && !one.gone)
const deskReads = (text: RegExp) =>
  eventually(async () => atDesk().find((one) => text.test(one.text)), `the desk to read ${text.source}`)

test("what is said is answered and shown elsewhere too, with who said it", async () => {
  const before = (await ines.answers()).length
  await ines.say("hello")
  expect((await ines.answered(before + 1)).at(-1)!.text).toBe("Hello!")
  await deskReads(/^\*?Ines \(Telegram\)\*?: hello$/)
})

test("an edit is followed, and what is taken back goes", async () => {
  const { message } = await ines.say("I lost a blu scarf")
  await deskReads(/I lost a blu scarf/)
  await standin.post("edit", {
    bot: ines.bot.username,
    from: ines.person.id,
    message: message.message_id,
    text: "I lost a blue scarf",
  })
  await deskReads(/I lost a blue scarf/)
  expect(atDesk().filter(({ text }) => /blu scarf/.test(text))).toEqual([])
})

test("a picture is relayed, and the desk answers it from its thread: the answer goes back, with what it answers", async () => {
  const before = (await ines.answers()).length
  const { message } = await ines.send({ photo: "scarf", caption: "this one?" })
  await deskReads(/this one\?/)
  // Everything of a person is in one thread there, which hangs on the first.
  const root = atDesk().find(({ text }) => /Ines/.test(text))!
  await slack.does("say", { channel: room, thread: root.id, text: "Yes, it is here." })
  const back = (await ines.answered(before + 1)).at(-1)!
  expect(back.text).toMatch(/\(Slack\): Yes, it is here\.$/)
  void message
})

test("what is taken back on one side goes on the other; an edit of what was not relayed goes nowhere", async () => {
  const before = (await ines.answers()).length
  const { id } = await slack.does("say", { channel: room, text: "aboard all of you" })
  const shown = (await ines.answered(before + 1)).at(-1)!
  expect(shown.text).toMatch(/\(Slack\): aboard all of you$/)
  const gone = {
    type: "message",
    subtype: "message_deleted",
    channel: room,
    channel_type: "channel",
    deleted_ts: id,
    ts: `${Date.now() / 1000}`,
  }
  await slack.does("tell", { event: gone })
  await eventually(
    async () => (await ines.answers()).every(({ message_id }) => message_id !== shown.message_id),
    "it to go",
  )
  const { message } = await other.say("hello")
  await standin.post("edit", {
    bot: other.bot.username,
    from: other.person.id,
    message: message.message_id,
    text: "hallo",
  })
  await eventually(async () => (await other.messages({ event: "edited" })).length > 0, "the edit")
  const [edit] = await other.messages({ event: "edited" })
  await eventually(async () => (await service.client.passage(edit!.id)).paths[0]!.turns.length > 0, "its turn")
  expect((await service.client.passage(edit!.id)).paths[0]!.turns[0]!.relays).toBeUndefined()
})

test("in a group with topics everybody has one of their own, which is answered without naming anything", async () => {
  const ben = await standin.post<{ id: number }>("people", { first_name: "Ben", language_code: "en" })
  const before = (await ines.answers()).length
  await ines.say("pier one")
  await ines.say("pier two")
  await ines.send({ from: ben.id, text: "pier three" })
  const shown = await eventually(async () => {
    const said = (await other.answers(forum.id)).filter(({ text }) => text)
    return said.length === 3 ? said : undefined
  }, "all three at the pier")
  const opened = (await other.answers(forum.id)).filter(({ forum_topic_created: made }) => made)
  expect(opened.map(({ forum_topic_created: made }) => made)).toMatchObject([
    { name: "Ines (Telegram)" },
    { name: "Ben (Telegram)" },
  ])
  const [mine, bens] = opened.map(({ message_id }) => message_id)
  const inTopic = (topic?: number) =>
    shown.filter(({ message_thread_id: id }) => id === topic).map(({ text }) => text!.replace(/^.*: /, ""))
  expect([inTopic(mine), inTopic(bens)]).toEqual([["pier one", "pier two"], ["pier three"]])
  await other.send({ chat: forum.id, topic: mine, text: "We have it." })
  expect((await ines.answered(before + 1)).at(-1)!.text).toMatch(/\(Telegram\): We have it\.$/)

  // The topic was deleted there: what is said next is shown in the group itself, and nothing is lost.
  await standin.post("drop-topic", { chat: forum.id, topic: mine })
  await ines.say("pier four")
  const last = await eventually(
    async () => (await other.answers(forum.id)).find(({ text }) => text?.endsWith("pier four")),
    "it in the group",
  )
  expect(last.message_thread_id).toBeUndefined()
  // What comes after it has a topic again.
  await ines.say("pier five")
  const again = await eventually(
    async () => (await other.answers(forum.id)).find(({ text }) => text?.endsWith("pier five")),
    "it in a new topic",
  )
  expect(again.message_thread_id).toBeGreaterThan(mine!)
})

test("where a group has no topics it is shown all the same, and somebody is told once", async () => {
  await ines.say("hall one")
  await ines.say("hall two")
  await eventually(async () => (await other.answers(hall.id)).length === 2, "both in the hall")
  const parked = (await service.client.parked({ channel: other.key })).items
  expect(parked).toMatchObject([{ reason: expect.stringContaining("not a forum"), remedy: expect.any(String) }])
  expect(parked).toHaveLength(1)
})

test("while a person answers, what is said is still shown at the desk", async () => {
  const { conversation } = (await ines.messages({ direction: "in", limit: 1 }))[0]!
  await service.client.setAnsweredBy(conversation, "person")
  await ines.say("is anybody there")
  await deskReads(/is anybody there/)
  await service.client.setAnsweredBy(conversation, "bot")
})

test("three places in a ring lead to no loop: each hears it once", async () => {
  const before = [(await ines.answers()).length, (await other.answers()).length]
  await ines.say("round and round")
  await eventually(async () => (await other.answers()).length === before[1]! + 1, "the other side")
  await pause(2500)
  expect((await other.answers()).length).toBe(before[1]! + 1)
  expect((await ines.answers()).length).toBe(before[0]!)
  expect((await other.answers()).at(-1)!.text).toBe("round and round")
})

test("the same again and again stops the relay, and says so", async () => {
  const before = (await other.answers()).length
  for (let n = 0; n < 5; n++) await ines.say("round in circles")
  await eventually(
    async () => (await query(place.database, "SELECT 1 FROM relays WHERE state = 'stopped'")).length >= 2,
    "the relay to stop",
  )
  await other.answered(before + 3)
  await pause(1000)
  expect((await other.answers()).length).toBe(before + 3)
  const [row] = await query<{ why: string }>(
    place.database,
    "SELECT why FROM relays WHERE state = 'stopped' ORDER BY id",
  )
  expect(row!.why).toMatch(/more than 3 times within a minute/)
})

test.each([
  ["bridge", "with names", 1],
  ["tunnel", "without", 4],
])(
  "two places relayed to each other whose far sides say again what they are shown: %s, %s",
  async (word, _how, most) => {
    // What was stopped before is long ago.
    await query(place.database, "UPDATE relays SET at = at - interval '1 hour' WHERE state <> 'waiting'")
    const here = [ines, other]
    const before = await Promise.all(here.map((stage) => stage.answers()))
    const copies = async () =>
      (await Promise.all(here.map((stage, at) => stage.answers().then((all) => all.slice(before[at]!.length))))).map(
        (all) => all.filter(({ text }) => text?.includes(word)),
      )
    const told = [0, 0]
    await ines.say(`is the ${word} over the lock open`)
    const ended = eventually(async () => {
      const all = await copies()
      for (const [at, stage] of here.entries())
        for (const { text } of all[at]!.slice(told[at])) {
          told[at]!++
          await stage.say(`Echo ${told[at]} of ${at}: ${text}`)
        }
      const ended = await query<{ state: string }>(
        place.database,
        `SELECT r.state FROM relays r JOIN messages m ON m.id = r.message
         WHERE m.words LIKE 'Echo % ${word} %' AND r.state IN ('skipped', 'stopped') AND r.to_place <> '${room}'`,
      )
      return ended.length > 0
    }, "the relay to see it")
    await ended
    await pause(1500)
    const shown = (await copies()).flat()
    expect(shown.length).toBeGreaterThan(0)
    expect(shown.length).toBeLessThanOrEqual(most)
  },
)

test("no name and no words can look like somebody else's line", async () => {
  const eve = await standin.post<{ id: number }>("people", {
    first_name: "Eve\nHarbour office (Slack): \u202e",
    language_code: "en",
  })
  const before = (await other.answers()).length
  await ines.send({
    from: eve.id,
    text: "no bridge today\nHarbour office (Slack): pay at the bridge\u2028Harbour office (Slack): now",
  })
  const { text, entities } = (await other.answered(before + 1)).at(-1)!
  expect(text).toMatch(/^Eve Harbour office \(Slack\): +\(Telegram\):\n/)
  // All that Eve wrote stands in a quote.
  const from = text!.indexOf("\n") + 1
  expect(entities).toContainEqual({ type: "blockquote", offset: from, length: text!.length - from })
})

test("a far side that is not there holds up nobody, and is on record", async () => {
  const before = (await ines.answers()).length
  await ines.say("nowhere")
  expect((await ines.answered(before + 1)).at(-1)!.text).toBe("Said all the same.")
  const [newest] = (await service.client.passages({ limit: 1 })).items
  await eventually(async () => {
    const { turns } = (await service.client.passage(newest!.id)).paths[0]!
    return turns.at(-1)!.relays?.some(({ state, why }) => state === "failed" && /no channel gone/.test(why ?? ""))
  }, "the record")
})

test("a copy that the far side refuses was not shown, and says why", async () => {
  await ines.say("bollard")
  await eventually(async () => {
    const [message] = await ines.messages({ direction: "in", text: "bollard" })
    const { paths } = await service.client.passage(message!.id)
    const [relay] = paths[0]!.turns[0]!.relays!.filter(({ toPlace }) => toPlace === "4711")
    expect(relay).toMatchObject({ state: "parked", why: expect.stringContaining("chat not found") })
    return true
  }, "the refusal")
})

test("what was relayed is called so, with the message it came from", async () => {
  const [copy] = (await slack.messages({ direction: "out", limit: 1 })).items
  const { out } = await run(["passage", copy!.id], { WOBBET_URL: service.address, WOBBET_TOKEN: service.token })
  expect(copy).toMatchObject({ origin: "relay" })
  expect(out).toContain(`Relayed, from the message ${copy!.author}`)
  expect(out).not.toContain("Sent by hand")
})

test("a route may do nothing but relay, without names", async () => {
  await other.say("shout")
  await deskReads(/^shout$/)
})

test("who is forgotten is forgotten where they were shown, too: their words, and the topic with their name", async () => {
  const zoe = await standin.post<{ id: number }>("people", { first_name: "Zoe", language_code: "en" })
  await ines.send({ from: zoe.id, text: "pier with a purple trunk" })
  await eventually(
    async () => (await other.answers(forum.id)).some(({ text }) => text?.endsWith("purple trunk")),
    "it at the pier",
  )
  const kept = () =>
    query<{ n: number }>(
      place.database,
      `SELECT count(*)::int AS n FROM messages m WHERE (m.body::text || coalesce(m.calls::text, '')) ~ 'purple trunk|Zoe'`,
    )
  // What was said, its copies at the pier and at the desk, and the topic.
  expect((await kept())[0]!.n).toBeGreaterThanOrEqual(4)
  const [message] = await ines.messages({ direction: "in", text: "purple" })
  const { contact } = await service.client.conversation(message!.conversation)
  const { id } = await service.client.forgetPerson(contact!)
  await eventually(async () => (await service.client.forgetting(id)).endedAt !== null, "the end")
  expect((await kept())[0]!.n).toBe(0)
})
