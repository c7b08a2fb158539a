import type { Said, Service, Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  pause,
  placeFor,
  quiet,
  Stage,
  startProcess,
  startService,
  startStandin,
  tempFolder,
} from "../support/harness.ts"
import { killTable, dying } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

interface Case {
  point: string
  /** The first message; the second is always "count". */
  says?: string
  settings?: object
  /** What is said in answer, in this order, each once unless it stands here twice. */
  answers: string[]
  /** Replies of which it was open for a while whether the provider took them. */
  doubts?: number
  parked?: number
  /** Set where the second reply's attempt may come on record in the very moment in which the process ends. */
  mayDoubt?: true
  /** Played by `npm test`, too. */
  always?: true
}

const counts = ["count 1", "count 2"]
const longParts = ["long", "long", "long", "count 1"]

/** Runs a service that fails at a place, then one that does not, and reads what the provider and the record say. */
async function fail(act: string, { point, says = "count", settings = {} }: Case) {
  const scene = await dying(standin, { bot: quayBot, faults: `${point}=${act}`, settings })
  const { first, stage, where } = scene
  await stage.say(says)
  await stage.say("count")
  const service: Service = act === "kill" ? await scene.replaced() : first
  if (act === "kill") expect(await first.ended).toBe("SIGKILL")
  const { client } = service
  return { service, stage, client, database: where.database }
}

async function outcome(act: string, one: Case) {
  const { service, stage, client, database } = await fail(act, one)
  await eventually(
    async () => {
      const { items } = await client.messages({ channel: stage.key })
      const settled = items.every((message) => ["sent", "parked", "handled"].includes(message.status))
      return settled && items.filter((message) => message.direction === "in").length === 2
    },
    "both messages to be settled",
    60,
  )
  // A list finds its messages first and looks at them then: a turn may have ended in between, with a reply it does not hold.
  await quiet(database)
  const [answers, outs, parked] = await Promise.all([
    stage.answers(),
    client.messages({ channel: stage.key, direction: "out" }),
    client.parked({ channel: stage.key }),
  ])
  const found = {
    answers: answers.map(wordsOf),
    doubts: outs.items.filter((message) => message.doubtful).length,
    parked: parked.items.length,
  }
  await service.stop()
  return found
}

const wordsOf = (said: Said) => (said.text!.startsWith("A sentence") ? "long" : said.text!.trim())

const killed: Case[] = [
  { point: "inlet: call read", answers: counts },
  { point: "inlet: call kept", answers: counts },
  { point: "turn: line loaded", answers: counts },
  { point: "turn: handler chosen", answers: counts },
  { point: "turn: handler answered", answers: counts, always: true },
  // From here on the attempt is on record, and nobody can know whether its first byte left.
  { point: "turn: committed", settings: { onDoubt: "resend" }, answers: counts, doubts: 1 },
  {
    point: "turn: committed",
    settings: { onDoubt: "park" },
    answers: ["count 2"],
    doubts: 1,
    parked: 1,
    always: true,
  },
  { point: "send: attempt begun", says: "long", settings: { onDoubt: "resend" }, answers: longParts, doubts: 1 },
  {
    point: "send: attempt begun",
    says: "long",
    settings: { onDoubt: "park" },
    answers: ["long", "count 1"],
    doubts: 1,
    parked: 1,
  },
  { point: "send: call answered", settings: { onDoubt: "resend" }, answers: ["count 1", ...counts], doubts: 1 },
  { point: "send: call answered", settings: { onDoubt: "park" }, answers: counts, doubts: 1, parked: 1 },
  { point: "send: answer recorded", settings: { onDoubt: "resend" }, answers: counts, mayDoubt: true },
  {
    point: "send: answer recorded",
    says: "long",
    settings: { onDoubt: "resend" },
    answers: longParts,
    mayDoubt: true,
  },
  { point: "poll: updates fetched", settings: { receive: "polling" }, answers: counts },
  { point: "poll: updates kept", settings: { receive: "polling" }, answers: counts },
]

const lost: Case[] = [
  { point: "inlet: call kept", answers: counts },
  { point: "turn: committed", answers: counts, always: true },
  { point: "send: attempt begun", says: "long", answers: longParts },
  // The call was made and its outcome could not be put on record: it is told again, not made again.
  { point: "send: call answered", settings: { onDoubt: "resend" }, answers: counts, always: true },
  { point: "send: answer recorded", answers: counts },
  { point: "poll: updates kept", settings: { receive: "polling" }, answers: counts },
]

describe.each([
  [
    "answered means kept, all or nothing, once or in doubt: a service killed (kill -9) between two steps",
    "kill",
    killed,
  ],
  ["the same where the process lives and only the database's answer is lost", "lose", lost],
])("%s", (_name, act, cases) => {
  const { scenes, found } = killTable(cases, 2, (one) => outcome(act, one))

  test.each(scenes.map((scene) => ({ says: "count", settings: {}, ...scene })))("$point, $says, $settings", (one) => {
    const came = found(one.at)
    const doubts = one.mayDoubt ? Math.min(came.doubts, 1) : (one.doubts ?? 0)
    expect(came).toEqual({ answers: one.answers, doubts, parked: one.parked ?? 0 })
  })
})

test("a conversation claimed in a statement whose answer was lost is found again, long before its claim runs out", async () => {
  const service = await startProcess({ bot: tempFolder(quayBot), faults: "inlet: call kept=lose" })
  const stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("count")
  // A claim lasts 30 s.
  const answers = await eventually(
    async () => {
      const said = await stage.answers()
      return said.length > 0 ? said : undefined
    },
    "the answer",
    12,
  )
  expect(answers.map(wordsOf)).toEqual(["count 1"])
  await service.stop()
}, 60_000)

test("in order: what a killed service left under way holds its line, for the provider may take it late", async () => {
  const where = await placeFor(quayBot)
  const first = await startProcess(where)
  const stage = await Stage.set(first, standin, { gather: 0, onDoubt: "park" })
  await standin.post("faults", { kind: "slow", method: "sendMessage", count: 1, seconds: 5 })
  await stage.say("say first")
  await eventually(async () => (await stage.messages({ direction: "out" }))[0]?.status === "sending", "the call")
  await pause(300)
  await first.stop("SIGKILL")
  const second = await startService(where)
  await stage.say("say second")
  await eventually(async () => (await stage.answers()).length === 2, "both to be taken", 30)
  expect((await stage.answers()).map((answer) => answer.text)).toEqual(["you said first", "you said second"])
  expect((await second.client.parked({ channel: stage.key })).items).toMatchObject([{ cause: "doubt" }])
  await second.stop()
}, 60_000)
