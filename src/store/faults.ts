import { appendFileSync } from "node:fs"

/**
 * Places at which a service may be made to fail, one between every two steps of a turn and of a delivery, so that "it
 * survives a crash anywhere" is a list that is gone through. Only the build for the fault tests has them: in every
 * other `FAULTS_BUILT` is the constant false, and the bundler leaves the calls out.
 */
export const faultPoints = {
  "inlet: call read": "a call has come in, nothing of it is kept",
  "inlet: ids made": "its messages have their ids, nothing is kept",
  "inlet: call kept": "call and message are durable, the provider has no answer yet",
  "turn: line loaded": "a process holds the conversation, nothing is decided",
  "turn: handler chosen": "the route is decided, the handler has not run",
  "turn: handler answered": "the handler has run, nothing of its turn is kept",
  "once: start recorded": "a side effect may begin, and has not",
  "once: callback ended": "a side effect is done, its result is not on record",
  "once: result recorded": "a side effect's result is durable, its handler does not know",
  "timer: due": "a time is over and taken, its message is not in the line, neither is durable",
  "timer: in line": "the message of a time that is over is in its line, nobody was told",
  "endpoint: about to ask": "an endpoint is to be asked about a turn, no byte has left",
  "endpoint: answered": "an endpoint has answered, nothing of that is on record",
  "model: reserved": "what a model's answer may cost is reserved, it was not asked",
  "model: answered": "a model has answered, nothing is on record",
  "model: tool used": "a model's tool was used and what it gave is on record, the model was not told",
  "relay: about to be shown": "what is relayed is in its lines, none of that is durable",
  "notice: recipients found": "it is known whom a notice is told, none of that is durable",
  "notice: about to be said": "what notices say is in its lines, none of that is durable",
  "elsewhere: leased": "a turn is leased from its queue, nobody was told",
  "elsewhere: answer kept": "the answer to a turn that waits is durable, whoever gave it has no answer yet",
  "turn: committed": "state, calls and the first attempt are durable, the call is not made",
  "send: attempt begun": "the attempt is on record, the call is not made",
  "send: call answered": "the provider has taken the call, its answer is not on record",
  "send: answer recorded": "the answer is on record, the next of the line is not begun",
  "forgetting: begun": "a person is forgotten as far as new messages go, nobody was told, the record is whole",
  "forgetting: piece removed": "a piece of the record is looked through, and that is durable",
  "poll: updates fetched": "updates are fetched, nothing of them is kept",
  "poll: updates kept": "updates and offset are durable, the provider does not know",
  "journal: file made": "the database is away, a file for calls is made on local disk, and its name is not durable",
  "journal: call written": "the database is away, the call is on local disk, the provider has no answer yet",
  "journal: calls read in": "calls of the journal are in the database, the journal still holds them",
} as const

export type FaultPoint = keyof typeof faultPoints

interface Plan {
  point: string
  /**
   * End the process as kill -9 does, lose what the database answered, throw as a fault of ours would, or hold on for so
   * many milliseconds.
   */
  act: "kill" | "lose" | "throw" | { hold: number }
  /** Only where the step is about something with this word in it. */
  word: string | undefined
  /** At which time of coming by; 1 is the first, and 0 each. */
  at: number
}

/** `WOBBET_FAULTS` holds a list such as `turn: committed=kill@2, inlet: call read=hold1500`. */
const plans: Plan[] = FAULTS_BUILT
  ? (process.env.WOBBET_FAULTS ?? "")
      .split(",")
      .map((one) => /^(.+)=(kill|lose|throw|hold(\d+))(?:\((\w+)\))?(?:@(\d+))?$/.exec(one.trim()))
      .filter((found) => found !== null)
      .map(([, point, act, hold, word, at]) => ({
        word,
        point: point!,
        act: hold !== undefined ? { hold: Number(hold) } : (act as "kill" | "lose" | "throw"),
        at: Number(at ?? 1),
      }))
  : []
const passed = new Map<string, number>()

/** Does here what the plan says. */
export async function faultPoint(point: FaultPoint, about = ""): Promise<void> {
  const times = (passed.get(point) ?? 0) + 1
  passed.set(point, times)
  const plan = plans.find(
    (plan) => plan.point === point && (plan.at === times || plan.at === 0) && about.includes(plan.word ?? ""),
  )
  if (!plan) return
  if (process.env.WOBBET_FAULTS_LOG) appendFileSync(process.env.WOBBET_FAULTS_LOG, `${point}\n`)
  if (plan.act === "kill") {
    process.kill(process.pid, "SIGKILL")
    await new Promise(() => undefined)
  } else if (plan.act === "lose") {
    throw Object.assign(new Error("the connection ended before the answer came"), { code: "08006" })
  } else if (plan.act === "throw") {
    throw new TypeError(`a fault of ours at "${point}"`)
  } else {
    const { hold } = plan.act
    await new Promise((resolve) => setTimeout(resolve, hold))
  }
}

/** How many times faster than providers ask for a place is written to: a test of ten answers need not take ten seconds. */
export const hurry: number = FAULTS_BUILT ? Number(process.env.WOBBET_FAULTS_HURRY ?? 1) : 1

/** Milliseconds by which ids are made as if it were another time: a month's end cannot be waited for. */
export const idShift: number = FAULTS_BUILT ? Number(process.env.WOBBET_FAULTS_ID_SHIFT ?? 0) : 0
