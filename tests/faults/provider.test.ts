import type { Service, Standin } from "../support/harness.ts"
import {
  allOf,
  endAll,
  eventually,
  pause,
  query,
  Stage,
  startProcess,
  startStandin,
  tempFolder,
} from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, crowd, hookSecret, update } from "../support/updates.ts"

let service: Service
let standin: Standin

beforeAll(async () => {
  standin = await startStandin()
  // Its calls run out of time by the clock: a loaded test process would take that from it.
  service = await startProcess({ bot: tempFolder(quayBot) })
})
afterAll(endAll)

longTest("a 429 is obeyed to the second, and the reply comes once", async () => {
  const stage = await Stage.set(service, standin)
  await standin.post("faults", { kind: "429", method: "sendMessage", count: 1, seconds: 2 })
  const begun = Date.now()
  await stage.say("say later")
  await stage.answered(1)
  expect(Date.now() - begun).toBeGreaterThanOrEqual(2000)
  const [reply] = await stage.messages({ direction: "out" })
  const attempts = (await service.client.passage(reply!.id)).paths[0]!.replies[0]!.attempts
  expect(attempts.map((attempt) => attempt.outcome)).toEqual(["again", "accepted"])
})

longTest("a fault there is retried; an answer that vanished is a doubt, and is said to be one", async () => {
  const stage = await Stage.set(service, standin)
  await standin.post("faults", { kind: "500", method: "sendMessage", count: 1 })
  await stage.say("say retried")
  expect((await stage.answered(1))[0]!.text).toBe("you said retried")
  await standin.post("faults", { kind: "drop", method: "sendMessage", count: 1 })
  await stage.say("say doubtful")
  const [doubt] = await eventually(async () => {
    const { items } = await service.client.parked({ channel: stage.key })
    return items.length > 0 ? items : undefined
  }, "the doubt")
  expect(doubt).toMatchObject({ what: "send", cause: "doubt", text: "you said doubtful" })
  expect(await stage.messages({ doubtful: true })).toMatchObject([
    {
      status: "parked",
      text: "you said doubtful",
      doubt: {
        known: expect.stringContaining("attempt 1 (sendMessage) was begun, and the answer never came") as unknown,
        decided: "parked (onDoubt: park), until a person decides",
        open: true,
      },
    },
  ])
  // The line is free again, and the person has the message: dropping it is right.
  await service.client.dropParked(doubt!.id)
  const [dropped] = await stage.messages({ doubtful: true })
  expect(dropped!.doubt).toMatchObject({ decided: "local chose to leave it", open: false })
  await stage.say("say next")
  await stage.answered(3)
  await expect(service.client.retryParked(doubt!.id)).rejects.toThrow("decided")
})

test("in order: a reply never overtakes what joined its line while the turn was being written", async () => {
  const stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("say first")
  await stage.answered(1)
  const [first] = await stage.messages({ direction: "out" })
  // So that the pace of the place does not hold the next one back.
  await pause(1200)
  await stage.say("nap")
  await eventually(async () => (await stage.messages({ direction: "in" })).length === 2, "the second turn to begin")
  // Another process adds a message: it has its place in the line, and its transaction ends after the turn's began.
  const added = `${first!.id.slice(0, -4)}zzzz`
  await query(
    service.env.DATABASE_URL!,
    `BEGIN;
     UPDATE work SET next_position = next_position + 1, said = said + 1 WHERE conversation = '${first!.conversation}';
     INSERT INTO messages (id, channel, conversation, direction, event, position, origin, body, words, calls)
       SELECT '${added}', m.channel, m.conversation, 'out', m.event, w.next_position - 1, 'api', m.body, m.words, m.calls
       FROM messages m JOIN work w ON w.conversation = m.conversation WHERE m.id = '${first!.id}';
     INSERT INTO outbox (conversation, position, channel, message, state, due_at)
       SELECT conversation, position, channel, id, 'waiting', now() FROM messages WHERE id = '${added}';
     SELECT pg_sleep(2.5);
     COMMIT`,
  )
  expect((await stage.answered(3)).map((one) => one.text)).toEqual(["you said first", "you said first", "awake"])
})

longTest("with onDoubt=resend the same doubt is settled by sending again", async () => {
  const stage = await Stage.set(service, standin, { onDoubt: "resend" })
  await standin.post("faults", { kind: "drop", method: "sendMessage", count: 1 })
  await stage.say("say twice")
  expect((await stage.answered(2)).map((one) => one.text)).toEqual(["you said twice", "you said twice"])
  const said = await eventually(
    async () => (await stage.messages({ doubtful: true, status: "sent" }))[0],
    "the doubt on record",
  )
  expect(said.doubt!.decided).toBe("sent again (onDoubt: resend), and attempt 2 was taken")
})

/** What a provider may do with a call, and whether it leaves a doubt. */
const ways = [
  { kind: "429", doubt: false },
  { kind: "500", doubt: false },
  { kind: "garbage", doubt: true },
  { kind: "drop", doubt: true },
  { kind: "silent", doubt: true },
]
const cases = ways.flatMap((way) => ["park", "resend"].map((onDoubt) => ({ ...way, onDoubt })))

describe("in order, and once or in doubt and said so: the provider answers the first of three replies with", () => {
  let found: (() => { said: string[]; doubtful: string[][] })[]
  beforeAll(async () => {
    found = await allOf(cases, cases.length, async ({ kind, onDoubt }) => {
      const stage = await Stage.set(service, standin, { onDoubt, gather: 0 })
      await standin.post("faults", { kind, method: "sendMessage", count: 1, seconds: 1, bot: stage.bot.username })
      for (const n of [1, 2, 3]) await stage.say(`say ${n}`)
      const said = await eventually(
        async () => {
          const texts = (await stage.answers()).map((answer) => answer.text!)
          return texts.includes("you said 3") ? texts : undefined
        },
        "the last answer",
        60,
      )
      const doubtful = await stage.messages({ direction: "out", doubtful: true })
      return { said, doubtful: doubtful.map((one) => [one.text, one.status]) }
    })
  }, 90_000)

  test.each(cases.map((scene, at) => ({ ...scene, at })))(
    "$kind, onDoubt: $onDoubt",
    ({ kind, doubt, onDoubt, at }) => {
      const { said, doubtful } = found[at]!()
      const all = ["you said 1", "you said 2", "you said 3"]
      // Garbage and a dropped connection come after the stand-in took the message; silence comes instead.
      const taken = kind !== "silent"
      if (!doubt) expect(said).toEqual(all)
      else if (onDoubt === "resend") expect(said).toEqual(taken ? ["you said 1", ...all] : all)
      else expect(said).toEqual(taken ? all : all.slice(1))
      expect(doubtful).toEqual(doubt ? [["you said 1", onDoubt === "park" ? "parked" : "sent"]] : [])
    },
  )
})

/** Calls that are under way to one channel's provider at once: `src/engine/sender/sender.ts`. */
const mostCalls = 256

test("a provider that answers nothing keeps no other channel from sending", async () => {
  const other = await startStandin()
  const [mute, heard] = [
    await Stage.set(service, standin, { gather: 0, perSecond: 1000 }),
    await Stage.set(service, other),
  ]
  await service.client.changeChannel(mute.key, { secrets: { hookSecret } })
  const people = await crowd(mute, 300)
  await standin.post("faults", { kind: "silent", method: "sendMessage", bot: mute.bot.username, count: 400 })
  const calls = people.map((chat) => bring(service, mute.key, hookSecret, update(chat, "say anything")))
  expect(new Set(await Promise.all(calls))).toEqual(new Set([200]))
  await eventually(
    async () =>
      (await query(service.env.DATABASE_URL!, "SELECT 1 FROM outbox WHERE state = 'sending'")).length >= mostCalls,
    "as many of its calls as there may be to be under way",
    90,
  )
  await heard.say("say hello")
  expect((await heard.answered(1))[0]!.text).toBe("you said hello")
  // None of the others has run out of time yet: they were not what it waited for.
  expect((await service.client.parked({ channel: mute.key })).items).toEqual([])
}, 150_000)
