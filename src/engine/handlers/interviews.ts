import type {
  Happened,
  InterviewOrder,
  InterviewResult,
  InterviewSettings,
  Stands,
} from "../../core/interview/interviewRun.ts"
import type { Difference, Done, Entry, NextStep, StandingJournal } from "../../core/interview/journal.ts"
import {
  backTo,
  entryWords,
  fits,
  mostBytes,
  mostEntries,
  onceName,
  standing,
  stepWords,
} from "../../core/interview/journal.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { readDuration } from "../../core/routing/duration.ts"
import type { InterviewHandler, InterviewTurn, Part, Step } from "../../sdk/index.ts"
import { isStep } from "../../sdk/interview.ts"
import type { OnceRunner } from "./once.ts"
import { OnceThrew } from "./once.ts"
import { stepTime } from "./stepTime.ts"

/** Interviews a host keeps warm. What falls out is made again from its journal. */
const mostWarm = 1000

/** The interviews of one host that can continue without their journals. */
export class WarmInterviews {
  private readonly kept = new Map<string, RunningInterview>()

  take(id: string, mark: string): RunningInterview | undefined {
    const found = this.kept.get(id)
    this.kept.delete(id)
    return found?.mark === mark ? found : undefined
  }

  keep(interview: RunningInterview): void {
    this.kept.set(interview.id, interview)
    if (this.kept.size > mostWarm) this.kept.delete(this.kept.keys().next().value!)
  }
}

/** What is answered where an interview should continue and neither its generator nor its journal is there. */
export const cold = Symbol("cold")

/** What a run says, besides what it came to. */
export interface InterviewSaid {
  replies: ReplyPart[]
  interview: InterviewResult
}

/**
 * Runs an interview from where it stands until it waits again or ends.
 *
 * @param quietly runs what was run before: what it prints was printed then
 */
export async function runInterview(
  handler: InterviewHandler,
  turn: Omit<InterviewTurn, "release">,
  order: InterviewOrder,
  warm: WarmInterviews,
  once: OnceRunner,
  quietly: <T>(run: () => T) => T,
): Promise<InterviewSaid | typeof cold> {
  const { goesOn, id } = order
  if (order.tooDeep)
    return {
      replies: [],
      interview: { id, entries: [], stands: { ended: "done" }, settings: {}, remember: {}, tooDeep: true },
    }
  let running: RunningInterview
  if (!goesOn) {
    running = new RunningInterview(id, handler)
    running.begin({ ...turn, release: order.release })
  } else {
    const found = warm.take(id, goesOn.mark)
    if (!found && !goesOn.journal) return cold
    running = found ?? new RunningInterview(id, handler)
    const differs = found ? undefined : quietly(() => running.replay(goesOn.journal!))
    if (differs) return { replies: [], interview: resultOf(running, { ended: "done" }, { differs }) }
  }
  const came = await running.advance(goesOn?.happened, once)
  if (order.twice && !came.interview.differs) {
    const unsteady = quietly(() => new RunningInterview(id, handler).compare(running))
    if (unsteady) came.interview.unsteady = unsteady
  }
  running.mark = order.mark
  if ("waits" in came.interview.stands) warm.keep(running)
  return came
}

function resultOf(running: RunningInterview, stands: Stands, more: Partial<InterviewResult> = {}): InterviewResult {
  return { id: running.id, entries: running.fresh.splice(0), stands, settings: running.settings, remember: {}, ...more }
}

/** Nothing more can be put into the journal. */
class TooLong extends Error {}

/** Steps of the last run up to which what it said is still said. */
const mostSaidAtEnd = 50

type Yielded = IteratorResult<unknown, unknown>

/** An interview whose generator stands at what it waits for. */
export class RunningInterview {
  mark = ""
  /** Entries that the journal does not hold yet. */
  readonly fresh: Entry[] = []
  readonly settings: InterviewSettings
  private all: Entry[] = []
  private standing: StandingJournal = { entries: [], before: new Map(), rounds: new Map() }
  private bytes = 0
  private generator!: Part<unknown>
  private turn!: InterviewTurn
  private at!: Yielded
  private readonly times = new Map<string, number>()

  constructor(
    readonly id: string,
    private readonly handler: InterviewHandler,
  ) {
    const { within, remind, tries, texts } = handler.interview.options
    this.settings = {
      ...(within === undefined ? {} : { within: readDuration(within)! }),
      ...(remind === undefined ? {} : { remind: remind === false ? 0 : readDuration(remind)! }),
      ...(tries === undefined ? {} : { tries }),
      ...(texts === undefined ? {} : { texts }),
    }
  }

  begin(turn: InterviewTurn): void {
    this.record({ did: "began", turn: JSON.parse(JSON.stringify(turn)) as object })
    this.start()
  }

  /** Brings a generator to where a journal ends; gives where they part, if they do. */
  replay(journal: Entry[]): (Difference & { line?: string }) | undefined {
    this.all = [...journal]
    this.bytes = journal.reduce((sum, entry) => sum + JSON.stringify(entry).length, 0)
    return this.rebuild()
  }

  /** Runs another's journal from the start; gives where it does or says something else. */
  compare(other: RunningInterview): (Difference & { line?: string }) | undefined {
    this.all = [...other.all]
    return this.rebuild(true) ?? this.unlike(other.at)
  }

  private rebuild(exactly = false): (Difference & { line?: string }) | undefined {
    this.standing = standing(this.all)
    this.times.clear()
    let n = 0
    try {
      this.start()
      for (const entry of this.standing.entries.slice(1)) {
        n = entry.n
        const next = nextOf(this.at)
        const parts = !fits(entry, next) || (exactly && !saysTheSame(entry, this.at))
        if (parts) {
          const [was, is] = fits(entry, next) ? [saidIn(entry), saidAt(this.at)] : [entryWords(entry), stepWords(next)]
          return { n, was, is, ...lineOf(this.at) }
        }
        if (entry.did === "once") this.nthOf(entry.name)
        this.at = this.enter(entry)
      }
      return undefined
    } catch (error) {
      return { n, was: n === 0 ? "its beginning" : "what the journal holds next", is: `throws ${plain(error)}` }
    }
  }

  /** Whether it stands elsewhere than another run of the same journal, or says something else there. */
  private unlike(at: Yielded): (Difference & { line?: string }) | undefined {
    const [was, is] = [saidAt(at), saidAt(this.at)]
    return was === is ? undefined : { n: this.all.length + 1, was, is, ...lineOf(this.at) }
  }

  async advance(happened: Happened | undefined, once: OnceRunner): Promise<InterviewSaid> {
    const replies: ReplyPart[] = []
    const remember: InterviewResult["remember"] = {}
    try {
      return await this.goOn(happened, once, replies, remember)
    } catch (error) {
      // One that has just begun is at fault itself: its message waits for a better version of it.
      if (!(error instanceof TooLong) || !happened) throw error
      // Of one that goes round in circles nobody wants to hear it all.
      const said = this.fresh.length > mostSaidAtEnd ? [] : replies
      return { replies: said, interview: this.ended({ remember, tooLong: error.message }) }
    }
  }

  private async goOn(
    happened: Happened | undefined,
    once: OnceRunner,
    replies: ReplyPart[],
    remember: InterviewResult["remember"],
  ): Promise<InterviewSaid> {
    if (happened) {
      const stays = await this.take(happened)
      if (stays) return { replies, interview: stays }
    }
    for (;;) {
      if (this.at.done)
        return { replies: [...replies, ...lastWords(this.at.value)], interview: this.ended({ remember }) }
      const step = this.step()
      switch (step.step) {
        case "ask":
          return { replies, interview: resultOf(this, { waits: "answer", question: step.question }, { remember }) }
        case "pause":
          return { replies, interview: resultOf(this, { waits: "time", until: step.until }, { remember }) }
        case "expect": {
          const within = step.within === undefined ? {} : { within: step.within }
          const when = JSON.parse(JSON.stringify(step.when)) as object
          return { replies, interview: resultOf(this, { waits: "word", when, ...within }, { remember }) }
        }
        case "leave": {
          const said = step.say === undefined ? {} : { say: step.say }
          return { replies, interview: resultOf(this, { ended: "left", to: step.to, ...said }, { remember }) }
        }
        case "tell":
          replies.push(...step.parts)
          this.at = this.enter(this.record({ did: "told", said: wordsOf(step.parts) }))
          break
        case "remember":
          remember[step.where] = { ...remember[step.where], ...(JSON.parse(JSON.stringify(step.values)) as object) }
          this.at = this.enter(this.record({ did: "remembered", where: step.where }))
          break
        case "once":
          this.at = await this.sideEffect(step, once)
      }
    }
  }

  private ended(more: Partial<InterviewResult>): InterviewResult {
    return resultOf(this, { ended: "done" }, more)
  }

  /** Takes what it waited for; gives a result where it goes no further. */
  private async take(happened: Happened): Promise<InterviewResult | undefined> {
    if (happened.what === "back") return this.goBack()
    const next = nextOf(this.at)
    const wanted = { answered: "ask", time: "pause", word: "expect" }[happened.what]
    const { step } = next
    // The time for what is expected may be over, too.
    const isIt =
      step === wanted && !(happened.what === "answered" && next.step === "ask" && next.kind !== happened.kind)
    if (!isIt) {
      const was = happened.what === "answered" ? "an answer to the open question" : "what it waited for"
      return this.ended({ differs: { n: this.all.length + 1, was, is: stepWords(next), ...lineOf(this.at) } })
    }
    if (happened.what === "time") {
      const { until } = this.step() as Step & { step: "pause" }
      this.at = this.enter(this.record({ did: "paused", until: typeof until === "string" ? until : `${until.for} ms` }))
    } else if (happened.what === "word") {
      const { message } = happened
      this.at = this.enter(this.record({ did: "expected", ...(message ? { message } : {}) }))
    } else {
      const { question, check } = this.step() as Step & { step: "ask" }
      const why = happened.given
        ? undefined
        : await (check as ((value: unknown) => unknown) | undefined)?.(happened.value)
      if (typeof why === "string")
        return resultOf(this, { waits: "answer", question }, { refused: why.trim() === "" ? "That will not do." : why })
      if (why !== undefined && why !== null)
        throw new TypeError("check says why an answer will not do, in words, or nothing where it will.")
      const { kind, value, ids } = happened
      const asked = question.text.slice(0, 500)
      this.at = this.enter(this.record({ did: "answered", kind, asked, value, ...(ids ? { ids } : {}) }))
    }
    return undefined
  }

  private goBack(): InterviewResult | undefined {
    const to = backTo(this.standing.entries)
    const stands = this.waiting()
    if (to === undefined) return resultOf(this, stands, { noWayBack: true })
    this.record({ did: "went back", to })
    const differs = this.rebuild()
    return differs ? this.ended({ differs }) : undefined
  }

  private waiting(): Stands {
    const step = this.step()
    return step.step === "ask" ? { waits: "answer", question: step.question } : { ended: "done" }
  }

  private async sideEffect(step: Step & { step: "once" }, once: OnceRunner): Promise<Yielded> {
    const { name, run, back, ifUnclear } = step
    const nth = this.nthOf(name)
    const which = onceName(name, nth)
    const round = this.standing.rounds.get(which) ?? 0
    const before = this.standing.before.get(which) as never
    const again = back === "again" ? { back } : {}
    try {
      const { key, value } = await once({ name, nth, round, ifUnclear, inInterview: true }, (key) => run(key, before))
      return this.enter(this.record({ did: "once", name, key, value, ...again }))
    } catch (error) {
      if (!(error instanceof OnceThrew)) throw error
      // Where the author catches it, that is what the journal has to tell next time.
      return this.enter(this.record({ did: "once", name, key: error.key, threw: error.threw, ...again }))
    }
  }

  private nthOf(name: string): number {
    const nth = (this.times.get(name) ?? 0) + 1
    this.times.set(name, nth)
    return nth
  }

  private start(): void {
    const [began] = this.all
    if (began?.did !== "began") throw new Error("the journal does not begin at its beginning")
    const turn = JSON.parse(JSON.stringify(began.turn)) as InterviewTurn & { now: Date | string }
    this.turn = { ...turn, now: new Date(turn.now) }
    this.standing = standing(this.all)
    const generator = this.handler.interview.run(this.turn)
    if (typeof (generator as Part<unknown> | undefined)?.next !== "function")
      throw new TypeError("An interview is written as interview(function* (…) { … }).")
    this.generator = generator
    this.at = this.passed(this.resume(began, (generator) => generator.next()))
  }

  /** Continues with what an entry says was given. */
  private enter(entry: Entry): Yielded {
    if (entry.did === "once" && entry.threw) {
      const error = Object.assign(new Error(entry.threw.message), { name: entry.threw.name })
      return this.passed(this.resume(entry, (generator) => generator.throw(error)))
    }
    const value = "value" in entry ? entry.value : entry.did === "expected" ? entry.message : undefined
    return this.passed(this.resume(entry, (generator) => generator.next(value)))
  }

  private resume(entry: Entry, go: (generator: Part<unknown>) => Yielded): Yielded {
    return stepTime.within(Date.parse(entry.at), this.id, entry.n, () => go(this.generator))
  }

  /** Interviews within it ask for what it was given; that is no step of its own. */
  private passed(at: Yielded): Yielded {
    while (!at.done && isStep(at.value) && at.value.step === "given")
      at = stepTime.within(this.now, this.id, this.all.length, () => this.generator.next(this.turn))
    return at
  }

  private get now(): number {
    return Date.parse(this.all.at(-1)!.at)
  }

  private step(): Step {
    const { value } = this.at
    if (isStep(value)) return value
    const generator = typeof (value as { next?: unknown } | undefined)?.next === "function"
    throw new TypeError(
      generator
        ? "The interview yields a question without a star: write yield* before it."
        : `The interview yields ${JSON.stringify(value)?.slice(0, 60) ?? typeof value}, which is no step: write yield* answer.…, tell, once, pause, expect, remember or leave.`,
    )
  }

  private record(done: Done): Entry {
    const n = (this.all.at(-1)?.n ?? 0) + 1
    // As it is read from the journal: the first run is given what later ones are.
    const text = JSON.stringify({ n, at: stepTime.real().toISOString(), ...done })
    this.bytes += text.length
    if (n > mostEntries)
      throw new TooLong(`the interview has more than ${mostEntries} steps behind it: let it end, and begin another`)
    if (this.bytes > mostBytes)
      throw new TooLong(
        `the interview's journal has more than ${mostBytes / 1024} kB: keep large results elsewhere, and let once return where they are`,
      )
    const entry = JSON.parse(text) as Entry
    this.all.push(entry)
    this.fresh.push(entry)
    if (entry.did !== "went back") this.standing.entries.push(entry)
    return entry
  }
}

function nextOf({ done, value }: Yielded): NextStep {
  if (done) return { step: "end" }
  if (!isStep(value)) return { step: "end" }
  switch (value.step) {
    case "ask": {
      const { kind, options } = value.question
      return { step: "ask", kind, ...(options && kind !== "yesNo" ? { ids: options.map(({ id }) => id) } : {}) }
    }
    case "once":
      return { step: "once", name: value.name }
    case "leave":
    case "given":
      return { step: "end" }
    default:
      return { step: value.step }
  }
}

/** Whether what is asked or told now is word for word what it was. */
function saysTheSame(entry: Entry, at: Yielded): boolean {
  const was = saidIn(entry)
  return was === "" || was === saidAt(at)
}

function saidIn(entry: Entry): string {
  if (entry.did === "answered") return entry.asked
  return entry.did === "told" ? entry.said : ""
}

function saidAt({ done, value }: Yielded): string {
  if (done) return "its end"
  if (!isStep(value)) return ""
  if (value.step === "ask") return value.question.text.slice(0, 500)
  if (value.step === "tell") return wordsOf(value.parts)
  return stepWords(nextOf({ done: false, value }))
}

function wordsOf(parts: ReplyPart[]): string {
  return parts
    .map((part) => ("text" in part ? part.text : part.part))
    .join(" · ")
    .slice(0, 500)
}

/** What an interview returns is said at its end, where it is words or parts of a reply. */
function lastWords(value: unknown): ReplyPart[] {
  if (typeof value === "string" && value.trim() !== "") return [{ part: "text", text: value }]
  const parts = Array.isArray(value) ? value : [value]
  return parts.every((one) => typeof one === "object" && one !== null && "part" in one) ? (parts as ReplyPart[]) : []
}

function plain(error: unknown): string {
  return error instanceof Error ? `${error.name}: ${error.message}` : String(error)
}

/** The line of the author's file that a step stands on. */
function lineOf({ value }: Yielded): { line?: string } {
  const stack = isStep(value) && "at" in value ? value.at?.stack : undefined
  const found = stack
    ?.split("\n")
    .find((one) => /handlers[\\/][^)]*\.(ts|js):\d+/.test(one) && !/engine[\\/]/.test(one))
  const at = found && /(handlers[\\/][^:)]+:\d+)/.exec(found)?.[1]
  return at ? { line: at.replace(/^.*?(?=handlers[\\/])/, "") } : {}
}
