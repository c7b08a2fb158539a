import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, pause, quiet, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"
import { longId, quayBot } from "./support/quayBot.ts"

let service: Service
let standin: Standin

beforeAll(async () => {
  standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
})
afterAll(endAll)

test("a message is answered, and its passage tells every stop", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("/start harbour")
  const [answer] = await stage.answered(1)
  expect(answer!.text).toBe("Hello Ines harbour")
  const passage = await eventually(async () => {
    const [message] = await stage.messages({ direction: "in" })
    const found = await service.client.passage(message!.id)
    return found.stops[5]!.state === "done" ? found : undefined
  }, "the reply to be on record")
  expect(passage.stops.map((stop) => stop.state)).toEqual(["done", "done", "done", "done", "done", "done", "untold"])
  expect(passage.intake).toMatchObject({ via: "webhook", answered: 200, verdict: { genuine: true }, repeated: false })
  expect(JSON.parse(passage.intake!.body)).toHaveProperty("update_id")
  const [path] = passage.paths
  expect(path!.decision.find((one) => one.met)).toMatchObject({ route: "greet", why: "the command /start" })
  expect(path!.replies[0]!.attempts).toMatchObject([{ name: "sendMessage", outcome: "accepted", status: 200 }])
  // From the reply's id one comes to the same passage.
  expect((await service.client.passage(path!.replies[0]!.message.id)).id).toBe(passage.id)
})

test("state is remembered from turn to turn, and can be forgotten", async () => {
  const stage = await Stage.set(service, standin)
  for (const n of [1, 2]) {
    await stage.say("count")
    await stage.answered(n)
  }
  expect((await stage.answers()).map((answer) => answer.text)).toEqual(["count 1", "count 2"])
  const { conversation } = (await stage.messages())[0]!
  expect((await service.client.conversation(conversation)).state).toEqual({ n: 2 })
  await service.client.resetConversation(conversation)
  await stage.say("count")
  expect((await stage.answered(3))[2]!.text).toBe("count 1")
})

test("a press comes back as the choice, however long its id; the button stops spinning and goes", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("ask")
  await stage.answered(1)
  await stage.press("Yes")
  const answers = await stage.answered(2)
  expect(answers[1]!.text).toBe(
    "You chose boat:a-very-long-id-that-no-provider-would-take-as-it-is-because-of-its-length (Yes)",
  )
  await eventually(async () => (await stage.answers())[0]!.reply_markup === undefined, "the buttons to go")
  const calls = await standin.get<{ bot: string; method: string }[]>("calls")
  expect(calls.filter((call) => call.bot === stage.bot.username && call.method === "answerCallbackQuery")).toHaveLength(
    1,
  )
})

test("a long text comes in several messages, in order", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("long")
  const answers = await stage.answered(3)
  expect(answers.map((answer) => answer.text).join(" ")).toBe("A sentence of the timetable. ".repeat(300).trim())
})

test("an edit runs only the route that names it; a reaction nobody asked for is passed over", async () => {
  const stage = await Stage.set(service, standin)
  const { message } = await stage.say("say quay")
  await stage.answered(1)
  await standin.post("edit", {
    bot: stage.bot.username,
    from: stage.person.id,
    message: message.message_id,
    text: "say pier",
  })
  expect((await stage.answered(2))[1]!.text).toBe("You changed it.")
  await standin.post("react", {
    bot: stage.bot.username,
    from: stage.person.id,
    message: message.message_id,
    emoji: "👍",
  })
  await eventually(async () => (await stage.messages({ event: "reaction", status: "passed over" }))[0], "the reaction")
  expect(await stage.answers()).toHaveLength(2)
})

test("an album is one turn", async () => {
  const stage = await Stage.set(service, standin)
  for (const name of ["a", "b", "c"]) await stage.send({ photo: name, content: { media_group_id: "g7" } })
  const [answer] = await stage.answered(1)
  expect(answer!.text).toBe("photos: a-1280 b-1280 c-1280")
  await quiet(stage.service.env.DATABASE_URL!)
  expect(await stage.answers()).toHaveLength(1)
})

test("what a person sends within gather is one turn", async () => {
  const stage = await Stage.set(service, standin, { gather: "700ms" })
  await stage.say("Hello there")
  await stage.say("say the boat")
  const [answer] = await stage.answered(1)
  expect(answer!.text).toBe("you said the boat (2)")
  expect(await stage.messages({ direction: "in", status: "handled" })).toHaveLength(2)
})

test("forum topics are conversations of their own, and are answered in their topic", async () => {
  const stage = await Stage.set(service, standin)
  const forum = await standin.post<{ id: number }>("groups", {
    title: "Harbour forum",
    type: "supergroup",
    forum: true,
    bots: [stage.bot.username],
  })
  await stage.say("count", { chat: forum.id, topic: 11 })
  await stage.say("count", { chat: forum.id, topic: 12 })
  const answers = await stage.answered(2, forum.id)
  expect(answers.map((answer) => [answer.message_thread_id, answer.text]).sort()).toEqual([
    [11, "count 1"],
    [12, "count 1"],
  ])
})

test("a group that becomes a supergroup keeps its conversation", async () => {
  const stage = await Stage.set(service, standin)
  const group = await standin.post<{ id: number }>("groups", {
    title: "Crew",
    type: "group",
    bots: [stage.bot.username],
  })
  await stage.say("count", { chat: group.id })
  await stage.answered(1, group.id)
  const upgraded = await standin.post<{ id: number }>("upgrade", {
    bot: stage.bot.username,
    from: stage.person.id,
    chat: group.id,
  })
  await stage.say("count", { chat: upgraded.id })
  expect((await stage.answered(1, upgraded.id))[0]!.text).toBe("count 2")
  const { items } = await service.client.conversations({ channel: stage.key, kind: "group" })
  expect(items.map((item) => item.address)).toEqual([String(upgraded.id)])
})

test("a send that meets the move first follows it", async () => {
  const stage = await Stage.set(service, standin)
  const group = await standin.post<{ id: number }>("groups", {
    title: "Crew",
    type: "group",
    bots: [stage.bot.username],
  })
  await stage.say("say hi", { chat: group.id })
  await stage.answered(1, group.id)
  await service.client.pauseChannel(stage.key)
  await service.client.send({ to: String(group.id), channel: stage.key, text: "after the move" })
  const upgraded = await standin.post<{ id: number }>("upgrade", {
    bot: stage.bot.username,
    from: stage.person.id,
    chat: group.id,
  })
  await service.client.resumeChannel(stage.key)
  expect((await stage.answered(1, upgraded.id))[0]!.text).toBe("after the move")
})

test("a broadcast post is a message like any other", async () => {
  const stage = await Stage.set(service, standin)
  const notices = await standin.post<{ id: number }>("groups", {
    title: "Notices",
    type: "channel",
    bots: [stage.bot.username],
  })
  await stage.say("say fog", { chat: notices.id })
  expect((await stage.answered(1, notices.id))[0]!.text).toBe("you said fog")
})

test("updates nobody has a word for are kept and shown", async () => {
  const stage = await Stage.set(service, standin)
  await stage.send({ content: { dice: { emoji: "🎲", value: 5 } } })
  const [message] = await eventually(async () => {
    const found = await stage.messages({ event: "unknown" })
    return found[0]?.status === "passed over" ? found : undefined
  }, "the unknown event to be passed over")
  expect(message).toMatchObject({ body: { providerEvent: "dice" } })
})

test("polling takes over from the webhook and back, with nothing lost or repeated", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("say one")
  await stage.answered(1)
  await service.client.changeChannel(stage.key, { settings: { receive: "polling" } })
  // The address still on record is in the way: said in words, not looped on.
  const shown = await eventually(async () => {
    const found = await service.client.channel(stage.key)
    return found.polling ? found : undefined
  }, "the conflict")
  expect(shown.polling!.says).toContain("refuses polling while an address is on record")
  expect((await service.client.channelRecord(stage.key)).differences[0]).toContain("still has an address on record")
  await stage.say("say two")
  expect((await service.client.connectChannel(stage.key)).differences).toEqual([])
  await stage.say("say three")
  await stage.answered(3)
  const [polled] = await stage.messages({ direction: "in", text: "three" })
  expect((await service.client.passage(polled!.id)).intake!.via).toBe("polling")
  await service.client.changeChannel(stage.key, { settings: { receive: null } })
  await service.client.connectChannel(stage.key)
  await stage.say("say four")
  await stage.answered(4)
  await pause(300)
  expect((await stage.answers()).map((answer) => answer.text)).toEqual(
    ["one", "two", "three", "four"].map((word) => `you said ${word}`),
  )
})

test("a polled update that cannot be stored does not hold up the others, nor come again", async () => {
  const stage = await Stage.set(service, standin, { receive: "polling" })
  await stage.send({ content: { sender_chat: { id: longId() } }, text: "say strange" })
  await stage.say("say after")
  expect((await stage.answered(1))[0]!.text).toBe("you said after")
  const { items } = await service.client.passages({ channel: stage.key })
  expect(items.map((item) => item.stops[2]!.state).sort()).toEqual(["done", "stopped"])
})

test("a refused send is parked, and may be retried at the end of the line or edited", async () => {
  const stage = await Stage.set(service, standin)
  await stage.say("say hi")
  await stage.answered(1)
  await standin.post("block", { bot: stage.bot.username, from: stage.person.id })
  const { conversation } = (await stage.messages())[0]!
  for (const text of ["first", "second"]) await service.client.send({ to: conversation, text })
  const items = await eventually(async () => {
    const page = await service.client.parked({ channel: stage.key })
    return page.items.length === 2 ? page.items : undefined
  }, "two parked sends")
  expect(items[0]).toMatchObject({ cause: "refused", reason: expect.stringContaining("blocked") as unknown })
  await standin.post("unblock", { bot: stage.bot.username, from: stage.person.id })
  await service.client.retryParked(items.find((item) => item.text === "first")!.id)
  expect((await stage.answered(2))[1]!.text).toBe("first")
  await service.client.editParked(items.find((item) => item.text === "second")!.id, "the *other* second")
  expect((await stage.answered(3))[2]!.text).toBe("the other second")
})

test("a locked-out token stops the channel, tells the one it should, and what waits goes out once it is replaced", async () => {
  const watch = await Stage.set(service, standin)
  await watch.say("say here")
  await watch.answered(1)
  const stage = await Stage.set(service, standin, { alertTo: `${watch.key}:${watch.person.id}` })
  const { token } = await standin.post<{ token: string }>("revoke", { bot: stage.bot.username })
  await stage.say("say waiting")
  await eventually(async () => (await service.client.channel(stage.key)).state === "locked out", "the lock-out")
  expect(await service.client.channel(stage.key)).toMatchObject({
    reason: expect.stringContaining("no longer accepts the token") as unknown,
  })
  expect((await watch.answered(2))[1]!.text).toContain(`The channel ${stage.key} is locked out`)
  const [keys, ...rest] = (await service.client.checkChannel(stage.key)).lines
  expect(keys).toMatchObject({ mark: "wrong", says: expect.stringContaining("no longer accepts") as unknown })
  expect(new Set(rest.map((line) => line.mark))).toEqual(new Set(["left"]))
  await service.client.changeChannel(stage.key, { secrets: { token } })
  expect(await service.client.checkChannel(stage.key)).toMatchObject({ resumed: true })
  expect((await stage.answered(1))[0]!.text).toBe("you said waiting")
})

test("a paused channel keeps what arrives, and resumes with it", async () => {
  const stage = await Stage.set(service, standin)
  await service.client.pauseChannel(stage.key)
  await stage.say("say kept")
  await eventually(async () => (await stage.messages({ status: "waiting" }))[0], "the message to be kept")
  await pause(300)
  expect(await stage.answers()).toHaveLength(0)
  await service.client.resumeChannel(stage.key)
  expect((await stage.answered(1))[0]!.text).toBe("you said kept")
})

test("other bots are not answered; where they may be, two of them in a loop are stopped", async () => {
  const stage = await Stage.set(service, standin, { perSecond: 1000 })
  const robot = await standin.post<{ id: number }>("people", { first_name: "Robot", is_bot: true })
  const group = await standin.post<{ id: number }>("groups", {
    title: "Bots",
    type: "supergroup",
    bots: [stage.bot.username],
  })
  const speak = () => standin.post("say", { bot: stage.bot.username, from: robot.id, chat: group.id, text: "/hello" })
  await speak()
  await eventually(async () => (await stage.messages({ status: "from a bot" }))[0], "the bot to be noticed")
  await service.client.changeChannel(stage.key, { settings: { answerBots: true } })
  for (let n = 0; n < 25; n++) {
    await speak()
    await pause(60)
  }
  await eventually(async () => (await stage.messages({ status: "loop stopped" }))[0], "the loop to be stopped")
})

test("one person's flood is held to some turns a minute, and nobody else waits for it", async () => {
  const few = { ...quayBot, "bot.yaml": quayBot["bot.yaml"]!.replace("turnsPerMinute: 60", "turnsPerMinute: 6") }
  const stage = await Stage.set(await startService({ bot: tempFolder(few) }), standin, { perSecond: 1000 })
  const other = await standin.post<{ id: number }>("people", { first_name: "Tom" })
  for (let n = 0; n < 12; n++) {
    await stage.say("/hello")
    await pause(40)
  }
  await standin.post("say", { bot: stage.bot.username, from: other.id, text: "say calm" })
  await stage.answered(1, other.id)
  const answers = await stage.answered(6)
  expect(answers).toHaveLength(6)
  expect((await stage.messages({ status: "waiting", direction: "in" })).length).toBe(6)
})

test("what is too late is parked, and may be answered all the same", async () => {
  const stage = await Stage.set(service, standin, { answerWithin: "10m" })
  await stage.say("say hello", { date: Math.floor(Date.now() / 1000) - 3600 })
  const [late] = await eventually(async () => {
    const { items } = await service.client.parked({ channel: stage.key })
    return items.length > 0 ? items : undefined
  }, "the late message")
  expect(late).toMatchObject({ cause: "too late", reason: expect.stringContaining("1 h ago") as unknown })
  await service.client.retryParked(late!.id)
  expect((await stage.answered(1))[0]!.text).toBe("you said hello")
})
