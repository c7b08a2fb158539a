import type { Happened, InterviewResult } from "../../core/interview/interviewRun.ts"
import { wordsIn } from "../../core/interview/words.ts"
import type { Leaving } from "../../core/interview/question.ts"
import { mostEntries } from "../../core/interview/journal.ts"
import { personFields } from "../../core/message/personFields.ts"
import { resultFault } from "../../core/interview/resultFault.ts"
import type { StandingInterview } from "../../core/interview/standing.ts"
import { retryAfter, turnTries } from "../../core/delivery/retry.ts"
import { storable, storableJson } from "../../core/message/graphemes.ts"
import { together } from "../../core/message/gather.ts"
import { longestState } from "../../core/message/longestState.ts"
import type { Message } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { replyFault } from "../../core/message/reply.ts"
import { wordsOf } from "../../core/message/words.ts"
import type { Relay } from "../../core/relay/relay.ts"
import type { Facts } from "../../core/routing/situation.ts"
import { unroutedName } from "../../core/routing/unrouted.ts"
import type { Database } from "../../store/database.ts"
import type { Bell } from "../../store/bell.ts"
import { optIn } from "../../store/directory.ts"
import { faultPoint } from "../../store/faults.ts"
import { newId } from "../../store/ids.ts"
import type { InterviewChange } from "../../store/interviews.ts"
import { runningIn } from "../../store/interviews.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import { nowOf } from "../../store/lines.ts"
import { parkOptedOut } from "../../store/outbox.ts"
import type { TurnRecord, TurnResult } from "../../store/turns.ts"
import { forgetUnderWay, noteUnderWay } from "../../store/underWay.ts"
import { withoutEchoes } from "./echoes.ts"
import type { KnownChannel } from "../channels.ts"
import type { Caller } from "../elsewhere/caller.ts"
import type { Asking, HandlerAnswer, HandlerGiven, Keeping, TurnInput } from "../handlers/handler.ts"
import { HandlerFault } from "../handlers/handler.ts"
import { keepingOf } from "../handlers/keeping.ts"
import type { NamedSecrets, Values } from "../handlers/namedSecrets.ts"
import { masked } from "../handlers/namedSecrets.ts"
import { lookAtState, mustFit } from "../handlers/stateSchema.ts"
import { handlerOf, secretsOf } from "../handlers/registry.ts"
import type { ReadyRelease } from "../handlers/handler.ts"
import type { Blocked } from "../people/blocked.ts"
import type { DeskTurns } from "../people/deskTurn.ts"
import type { Joining } from "../people/joining.ts"
import type { People } from "../people/people.ts"
import type { Assembled } from "../replies/assemble.ts"
import { assemble, completed } from "../replies/assemble.ts"
import { orInstead } from "../replies/orInstead.ts"
import type { Renderer } from "../replies/renderer.ts"
import type { Courtesies } from "../sender/courtesies.ts"
import type { Sender } from "../sender/sender.ts"
import type { Plan } from "./decision.ts"
import { planOf } from "./decision.ts"
import { named, withChoices, withQuotes } from "./asMeant.ts"
import { factsFor } from "./facts.ts"
import type { InterviewStep, Talks } from "./interviewTurn.ts"
import { afterAside, allStopped, ranStep, stepOf, talksOf, timerAgain, tooDeep } from "./interviewTurn.ts"
import type { Stop } from "./limits.ts"
import { paceOf, turnedAway } from "./limits.ts"
import { alsoFor, answerChange, answeredCopy, relayChanges, relaysAnything } from "./relays.ts"
import type { KeptTurn, Standing } from "./waiting.ts"
import { askingOf, recordOfWait, standingOf, waitChange } from "./waiting.ts"
import { wallClock } from "../process/wallClock.ts"

/** What a turn is taken with. */
export interface TurnParts {
  database: Database
  people: People
  courtesies: Courtesies
  sender: Sender | undefined
  renderer: Renderer
  bell: Bell
  self: string
  blocked: Blocked
  joining: Joining
  desk: DeskTurns
  secrets: NamedSecrets
  caller: Caller
  /** Whether a bot folder is followed here: then each run of an interview is checked by another. */
  follows: boolean
}

/** A turn that is about to be taken. */
interface Turn {
  line: Line
  known: KnownChannel
  release: ReadyRelease | undefined
  messages: PendingMessage[]
  facts: Facts | undefined
  /** Set where interviews run. */
  talks: Talks | undefined
  /** Set where it waits for an answer from elsewhere, or has it. */
  standing?: Standing<SoFar> | undefined
  /** The result as it stands before anything has been decided. */
  blank: TurnResult
}

/** What the turn came to: what of its result, and of its record, is no longer blank. */
type Ending = Partial<Omit<TurnResult, "turn">> & { turn: Partial<TurnRecord> }

/**
 * Takes the turn of a group of messages: decides, runs the handler, renders what it says. Commits nothing. A state of an
 * earlier version of the bot is migrated before anything is decided, where the bot has a function for that.
 */
export async function takeTurn(
  parts: TurnParts,
  line: Line,
  known: KnownChannel,
  release: ReadyRelease | undefined,
  group: PendingMessage[],
): Promise<TurnResult> {
  const startedAt = wallClock("record")
  const hasState = Object.keys(line.state).length > 0
  if (!release?.hosts || !hasState || release.table.bot.stateSchema?.migrates !== true)
    return turnOf(parts, line, known, release, group, startedAt)
  try {
    const { migrated, value } = await lookAtState(release.hosts, line.state, true)
    if (!migrated) return await turnOf(parts, line, known, release, group, startedAt)
    const state = storableJson(value)
    const result = await turnOf(parts, { ...line, state }, known, release, group, startedAt)
    return withMigration(result, line, state)
  } catch (error) {
    if (!(error instanceof HandlerFault)) throw error
    const fault = new HandlerFault({
      ...error.error,
      name: "StateFault",
      message: `migrate in state.ts: ${error.error.message}`,
    })
    const blank = blankOf(line, release, group, startedAt)
    const turn: Turn = { line, known, release, messages: group, facts: undefined, talks: undefined, blank }
    return settled(blank, failed(turn, { stateBefore: line.state, handler: "state.ts" }, fault, turnTries))
  }
}

/** The migrated state is kept with the turn, also where its handler keeps none; on record stands what it was before. */
function withMigration(result: TurnResult, line: Line, state: Line["state"]): TurnResult {
  if (result.again !== undefined || result.parked !== undefined) return result
  const { turn } = result
  turn.stateBefore &&= line.state
  turn.facts = { ...(turn.facts as Facts | undefined), migrated: state }
  turn.stateAfter ??= state
  result.state ??= state
  result.offered ??= line.offered
  return result
}

async function turnOf(
  parts: TurnParts,
  line: Line,
  known: KnownChannel,
  release: ReadyRelease | undefined,
  group: PendingMessage[],
  startedAt: Date,
): Promise<TurnResult> {
  const heard = await withoutEchoes(parts.database, known, line.conversation, group)
  const meant = await withQuotes(parts.database, line, await withChoices(parts.database, line, heard))
  const messages = await named(parts.people, known, meant)
  const now = nowOf(line)
  const pace = paceOf(line, messages.at(-1)!.message, now)
  const facts = release && (await factsFor(parts.database, release.table, known, line, messages))
  const talks = release && (await talksIn(parts.database, release, known, line, messages, startedAt))
  const standing = line.waits > 0 ? await standingOf<SoFar>(parts.database, line.conversation, group) : undefined
  const blank = blankOf(line, release, group, startedAt)
  const turn: Turn = { line, known, release, messages, facts, talks, standing, blank }
  blank.turn.facts = facts
  Object.assign(blank, pace)
  if (line.waits > 0) blank.waited = true
  await obeyFirst(parts, turn, group)
  const isBlocked = parts.blocked.has(messages.at(-1)!.contact)
  if (standing?.kept && release && !isBlocked)
    return settled(blank, await takenOn(parts, turn, standing, standing.kept))
  const plan: Plan = isBlocked
    ? { does: "stop", stop: { outcome: "blocked", reason: "this person is blocked: nothing of theirs is answered" } }
    : ((await deskPlan(parts, turn)) ??
      (await relayPlan(parts, turn)) ??
      (await joinPlan(parts, turn)) ??
      planOf({ line, known, release, messages, pace, facts, talks, now }))
  const ending = await carryOut(parts, turn, plan)
  return settled(turn.blank, await withRelays(parts, turn, plan, ending, startedAt))
}

/** What was said answers what was shown here from elsewhere: it goes back there. */
async function relayPlan({ database }: TurnParts, { line, known, messages, release }: Turn): Promise<Plan | undefined> {
  if (!release || !relaysAnything(release.table)) return undefined
  const last = messages.at(-1)!
  const copy = await answeredCopy(database, line, known, last)
  return copy && { does: "relay", copy, message: last.message }
}

/** With what of it is shown elsewhere: as its handler says, and as the relays beside the routes do. */
async function withRelays(
  { database }: TurnParts,
  { line, known, messages, release, facts }: Turn,
  plan: Plan,
  ending: Ending,
  now: Date,
): Promise<Ending> {
  if (!release || !relaysAnything(release.table)) return ending
  // Where a person answers, what is said there is shown elsewhere all the same.
  const left = plan.does === "stop" && plan.stop.outcome === "left to a person"
  if (plan.does === "stop" && !left) return ending
  // A turn that is tried again shows nothing yet.
  if (ending.again !== undefined && !ending.waits) return ending
  if (plan.does === "relay")
    return { ...ending, relays: messages.map((message) => answerChange(line, message, plan.copy)) }
  const said = messages.map(({ message }) => message)
  const situation = {
    message: together(said),
    messages: said,
    channel: { key: line.channel, kind: known.row.kind },
    state: line.state,
    now: now.toISOString(),
    ...(facts === undefined ? {} : { facts }),
  }
  const own =
    plan.does === "run" && typeof plan.handler === "object" ? (plan.handler.relay as Relay | undefined) : undefined
  const relays = [...(own ? [own] : []), ...alsoFor(release.table, situation)]
  const changes = await relayChanges(database, line, messages, relays)
  return changes.length > 0 ? { ...ending, relays: changes } : ending
}

/** A turn that has waited continues as it began, unless somebody else has the conversation by now. */
async function takenOn(
  parts: TurnParts,
  turn: Turn,
  standing: Standing<SoFar>,
  { id, handler, route: name, slots, aside, soFar, told }: KeptTurn<SoFar>,
): Promise<Ending> {
  const { line, messages, blank, talks } = turn
  Object.assign(blank.turn, { id, startedAt: standing.row.since })
  // It was counted when it began.
  blank.minuteTurns = Math.max(0, blank.minuteTurns - 1)
  const said = messages.map(({ message }) => message)
  const stop = turnedAway(line, said.at(-1)!)
  if (stop) {
    const ending = withInterviews(turn, stopped(turn, stop), stoppedInterviews(turn, stop))
    return { ...ending, turn: { ...ending.turn, ...recordOfWait(standing, undefined) } }
  }
  const route = turn.release!.table.bot.routes.find((one) => one.name === name)
  const open = aside && talks?.running.find(({ who, stands }) => who === talks.who && stands === "asks")
  if (told.length > 0) blank.turn.told = told
  const plan: Running = { does: "run", handler, slots, message: together(said), standing, leg: soFar?.left ?? 0 }
  return run(parts, turn, { ...plan, ...(route ? { route } : {}), ...(open ? { open } : {}) }, soFar)
}

/** Filled in where it stands: merging two objects of twenty fields each for every turn showed under load. */
function settled(blank: TurnResult, { turn: record, ...rest }: Ending): TurnResult {
  Object.assign(blank.turn, record)
  return Object.assign(blank, rest)
}

/** What was said is for the desk: who waits, and who answers them. */
async function deskPlan({ desk }: TurnParts, { line, messages, release }: Turn): Promise<Plan | undefined> {
  const { message } = messages.at(-1)!
  // What is only tried changes nothing for others.
  if (message.simulated === "captured") return undefined
  const replies = await desk.heard(release?.table.bot.desk, line, messages.at(-1)!)
  return replies && { does: "desk", replies, message }
}

/** What was said is the code by which somebody is known on a second channel: that comes before everything else. */
async function joinPlan({ joining }: TurnParts, { line, messages, release }: Turn): Promise<Plan | undefined> {
  const [only] = messages
  if (only!.message.simulated === "captured") return undefined
  if (messages.length > 1 || line.optedOut || only!.message.own || only!.message.from?.bot) return undefined
  if (!(await joining.heard(only!, line.channel))) return undefined
  const { message } = only!
  const languages = [message.from?.language, ...(release?.table.bot.language ?? [])]
  return { does: "joined", text: wordsIn(languages.filter((one) => one !== undefined)).joined, message }
}

/** The interviews that run in the conversation; undefined where none do, and nothing has to be asked about. */
async function talksIn(
  database: Database,
  { table }: ReadyRelease,
  known: KnownChannel,
  line: Line,
  messages: PendingMessage[],
  now: Date,
): Promise<Talks | undefined> {
  if (!line.running && !messages.some(({ message }) => message.event === "interview")) return undefined
  const last = messages.at(-1)!
  const at = { channel: line.channel, address: last.message.from?.address ?? "" }
  const { running, speaker } = await runningIn(database, line.conversation, at)
  return talksOf(table, known, line.conversation, running, speaker ? { ...last, contact: speaker } : last, now)
}

function blankOf(line: Line, release: ReadyRelease | undefined, group: PendingMessage[], startedAt: Date): TurnResult {
  return {
    conversation: line.conversation,
    channel: line.channel,
    place: line.place,
    fence: line.fence,
    heard: group.at(-1)!.position,
    heardTo: group.at(-1)!.position,
    saw: line.waits,
    heardBefore: line.heard,
    seenNext: line.next,
    seenSaid: line.said,
    tries: 0,
    minuteAt: null,
    minuteTurns: 0,
    botTurns: 0,
    turn: {
      id: newId("trn"),
      messages: group.map((one) => one.id),
      outcome: "handled",
      reason: undefined,
      route: undefined,
      handler: undefined,
      release: release?.id,
      bot: release?.table.bot.bot,
      facts: undefined,
      slots: undefined,
      takenAs: undefined,
      stateBefore: undefined,
      stateAfter: undefined,
      log: undefined,
      error: undefined,
      degraded: undefined,
      interview: undefined,
      run: line.tries + 1,
      startedAt,
    },
    state: undefined,
    offered: undefined,
    taken: undefined,
    again: undefined,
    parked: undefined,
    out: [],
    tokens: [],
    interviews: undefined,
    running: undefined,
    contact: undefined,
    handed: undefined,
  }
}

/** What is done before anything is decided: presses are confirmed, and wishes to get nothing more are obeyed. */
async function obeyFirst({ database, courtesies }: TurnParts, turn: Turn, group: PendingMessage[]): Promise<void> {
  const { line, known, messages, blank } = turn
  if (line.tries === 0 && line.waits === 0) {
    for (const { id, courtesies: calls } of messages)
      if (calls.length > 0) courtesies.make(id, known, line.place.address, calls)
  }
  const [only] = messages
  if (messages.length === 1 && only!.message.choice !== group[0]!.message.choice)
    blank.turn.takenAs = only!.message.choice
  if (line.optedOut && only!.message.wish === "maybe start") await optIn(database, line.conversation)
  if (only!.message.wish === "stop") await parkOptedOut(database, line.conversation)
}

async function carryOut(parts: TurnParts, turn: Turn, plan: Plan): Promise<Ending> {
  const { line } = turn
  switch (plan.does) {
    case "stop":
      return withInterviews(turn, stopped(turn, plan.stop), stoppedInterviews(turn, plan.stop))
    case "nothing": {
      const record = { outcome: plan.outcome, reason: plan.reason, stateBefore: turn.release && line.state }
      // What is passed over uses up nobody's turns.
      const free = plan.outcome === "passed over" ? { minuteTurns: turn.blank.minuteTurns - 1 } : {}
      return { turn: record, ...free }
    }
    case "help": {
      const record = {
        outcome: "unrouted" as const,
        reason: "no route is met",
        handler: "help",
        stateBefore: line.state,
      }
      return ended(parts, turn, record, await said(parts, turn, [{ part: "text", text: plan.text }], plan.message))
    }
    case "relay":
      return { turn: { reason: "answers what was shown here from elsewhere", handler: "relay" } }
    case "desk":
      return ended(
        parts,
        turn,
        // Without a state: no route was looked at.
        { reason: "said at the desk", handler: "desk" },
        await said(parts, turn, plan.replies, plan.message),
      )
    case "joined": {
      const record = {
        reason: "the code of a join: who said it is known here as the same person",
      }
      return ended(parts, turn, record, await said(parts, turn, [{ part: "text", text: plan.text }], plan.message))
    }
    case "interview":
      return interviewHeard(parts, turn, plan)
    case "run":
      // An answer may have come before its wait was on record.
      return run(parts, turn, turn.standing ? { ...plan, standing: turn.standing } : plan)
  }
}

/** Nothing is answered, and why. */
function stopped({ line, blank }: Turn, stop: Stop): Ending {
  if ("again" in stop)
    return {
      turn: { messages: [], outcome: "set aside" },
      heard: line.heard,
      again: stop.again,
      tries: line.tries,
      minuteTurns: blank.minuteTurns - 1,
    }
  const record = { outcome: stop.outcome, reason: stop.reason }
  if (!("cause" in stop)) return { turn: record }
  const { cause, reason, remedy } = stop
  return {
    turn: record,
    parked: { cause, reason, remedy },
    ...(cause === "flood" ? { minuteTurns: blank.minuteTurns - 1 } : {}),
  }
}

/** Whoever asks to be sent nothing more ends what runs; times that are over while a person answers are waited for again. */
function stoppedInterviews({ talks, line, messages }: Turn, stop: Stop): InterviewChange[] {
  if (!talks || !("outcome" in stop)) return []
  const { moment } = messages.at(-1)!.message
  // What is asked stays open when only its reminder is dropped.
  if (moment?.dropped)
    return moment.what === "reminder"
      ? []
      : allStopped(
          line.conversation,
          talks.running.filter(({ id, mark }) => id === moment.interview && mark === moment.mark),
        )
  if (stop.outcome === "opted out") return allStopped(line.conversation, talks.running)
  return timerAgain(line.conversation, talks.running, messages.at(-1)!.message)
}

/** What a turn has come to so far: a handler may leave it to another. */
interface SoFar {
  replies: ReplyPart[]
  changes: InterviewChange[]
  record: Partial<TurnRecord>
  state?: { [field: string]: unknown } | null
  contact?: { [field: string]: unknown }
  handed?: true
  /** How often it was left to another route. */
  left: number
}

/** What was said is for an interview: its own words, or a run of it. */
async function interviewHeard(parts: TurnParts, turn: Turn, plan: Plan & { does: "interview" }): Promise<Ending> {
  const talks = turn.talks!
  const step = stepOf(talks, plan.heard)
  if ("happened" in step) {
    const { interview, happened } = step
    const route = turn.release!.table.bot.routes.find(({ name }) => name === interview.route)
    return run(parts, turn, {
      does: "run",
      handler: interview.handler,
      ...(route ? { route } : {}),
      slots: {},
      message: plan.message,
      goesOn: { interview, happened },
    })
  }
  const of = talks.running.find(({ id }) => id === step.note.id)
  const record: Partial<TurnRecord> = { outcome: "handled", handler: of?.handler, route: of?.route ?? undefined }
  const soFar = taking({ replies: [], changes: [], record: { ...record, stateBefore: turn.line.state }, left: 0 }, step)
  return step.leave ? leaveTo(parts, turn, step.leave, plan, soFar) : finish(parts, turn, plan.message, soFar)
}

/** What an interview's step adds to a turn. */
function taking(soFar: SoFar, { replies, changes, note }: InterviewStep): SoFar {
  const others = soFar.changes.filter(({ id }) => !changes.some((change) => change.id === id))
  const record = { ...soFar.record, interview: storableJson(note) }
  return { ...soFar, record, replies: [...soFar.replies, ...replies], changes: [...others, ...changes] }
}

type Running = Plan & {
  does: "run"
  goesOn?: { interview: StandingInterview; happened: Happened }
  /** Set where its answer from elsewhere is there, or its time is over. */
  standing?: Standing<SoFar>
  /** How often it was left from route to route before. */
  leg?: number
}

/** Runs the handler, and renders what it answers. */
async function run(parts: TurnParts, turn: Turn, plan: Running, before?: SoFar): Promise<Ending> {
  const { line } = turn
  const { kind, written, name } = handlerOf(plan.handler)
  const taken = plan.route !== undefined || plan.goesOn !== undefined
  const record: Partial<TurnRecord> = taken
    ? { handler: name, stateBefore: line.state, outcome: "handled", route: plan.route?.name, slots: plan.slots }
    : { handler: name, stateBefore: line.state, outcome: "unrouted", reason: "no route is met" }
  const told = tellIfSlow(parts, turn, name)
  let secrets: Values = {}
  const leaked = new Set<string>()
  const soFar = () => ({
    ...(before ?? { replies: [], changes: [], left: 0 }),
    record: { ...kept(before?.record), ...record },
  })
  /** What an answer from elsewhere leaves on record, whatever comes of it. */
  const recorded = (answer?: HandlerAnswer) => {
    if (leaked.size > 0) record.degraded = [...leaked].map(maskedNote)
    if (!kind.asksElsewhere) return
    turn.blank.waited = true
    Object.assign(record, recordOfWait(plan.standing, answer, before?.record.elsewhere))
  }
  let answer: HandlerAnswer | undefined
  try {
    if (FAULTS_BUILT) await faultPoint("turn: handler chosen", wordsOf(turn.messages.at(-1)!.message))
    secrets = await listedSecrets(parts, turn, plan)
    const given = givenBy(parts, turn, plan, secrets)
    answer = masked(await kind.run(written, inputOf(turn, plan), turn.release!, given), secrets, leaked)
    answer.masked?.forEach((name) => leaked.add(name))
    if (answer.waits !== undefined) return await waiting(parts, turn, plan, answer, answer.waits, before)
    recorded(answer)
    if (FAULTS_BUILT) await faultPoint("turn: handler answered")
    if (answer.fails !== undefined) throw new HandlerFault({ name: "NoAnswer", message: answer.fails })
    if (answer.log.length > 0) record.log = answer.log.map(storable)
    return await answered(parts, turn, plan, answer, soFar())
  } catch (error) {
    if (!(error instanceof HandlerFault)) throw error
    const fault = new HandlerFault(masked(error.error, secrets, leaked), masked(error.log, secrets, leaked))
    // An answer from elsewhere that cannot be said or kept is none.
    const { message } = fault.error
    const instead = unfit.has(fault.error.name) && answer && answer.instead === undefined ? kind.insteadOf : undefined
    const said = instead?.(written, message, inputOf(turn, plan), turn.release!, givenBy(parts, turn, plan, secrets))
    recorded(said ? { ...said, calls: answer?.calls ?? [] } : answer)
    if (said) return await answered(parts, turn, plan, said, soFar())
    return failed(turn, record, fault, plan.route?.tries ?? turnTries)
  } finally {
    await told.over()
  }
}

/** Side effects whose names and results are on record without secrets. */
function onceWithout(secrets: Values, once: Keeping["once"]): Keeping["once"] {
  const without = <T>(value: T) => masked(value, secrets, new Set())
  return {
    begin: (asked) => once.begin({ ...asked, shown: without(asked.name) }),
    end: (key, ended) => once.end(key, without(ended)),
  }
}

const maskedNote = (name: string) => `the secret ${name} stood in what the handler gave, and was masked`

async function listedSecrets({ secrets }: TurnParts, { known, release }: Turn, plan: Running): Promise<Values> {
  const names = secretsOf({ handler: plan.handler, secrets: plan.route?.secrets ?? [] }, release!.table.bot)
  return names.length > 0 ? secrets.listed(release!.table.bot.bot, known.row.lane, names) : {}
}

/** What of a record stays when a turn is left from route to route. */
function kept({ interview, elsewhere }: Partial<TurnRecord> = {}): Partial<TurnRecord> {
  return { ...(interview ? { interview } : {}), ...(elsewhere ? { elsewhere } : {}) }
}

/** The turn waits for an answer from elsewhere: its line is nobody's until then. */
async function waiting(
  parts: TurnParts,
  turn: Turn,
  plan: Running,
  { calls = [] }: HandlerAnswer,
  waits: NonNullable<HandlerAnswer["waits"]>,
  before: SoFar | undefined,
): Promise<Ending> {
  const { line, known, release, messages, blank } = turn
  const { standing } = plan
  const bare: Ending = {
    turn: { messages: [], outcome: "waits" },
    resting: messages.map(({ id }) => id),
    heard: line.heard,
    tries: line.tries,
    waited: undefined,
  }
  if (waits === "still") {
    // It was looked at before its time.
    const { row } = standing!
    // Its answer is there, and waits for nothing but what was said early to arrive.
    const left = standing!.came ? 200 : Math.max(row.left ?? 0, 100)
    return { ...bare, again: left, waits: "still" }
  }
  const [first] = messages
  const early =
    waits.meanwhile === undefined || blank.turn.told ? undefined : [{ part: "text" as const, text: waits.meanwhile }]
  const done = early && (await said(parts, turn, await completed(parts.database, early, known), plan.message))
  const out = done?.out ?? []
  if (out[0] && parts.sender?.mayStart(line.channel, line.place, out[0].calls[0]!)) out[0].start = true
  const kept: KeptTurn<SoFar> = {
    id: blank.turn.id,
    handler: plan.handler,
    route: plan.route?.name,
    slots: plan.slots,
    ...(plan.open ? { aside: true as const } : {}),
    ...(before ? { soFar: before } : {}),
    messages: messages.map(({ id }) => id),
    told: [...(blank.turn.told ?? []), ...out.map(({ id }) => id)],
    ...(waits.how ? { how: waits.how } : {}),
    ...(waits.draft && out[0] ? { draft: out[0].id } : {}),
  }
  const of = {
    conversation: line.conversation,
    message: first!.id,
    position: first!.position,
    leg: plan.leg ?? 0,
    bot: release!.table.bot.bot,
    lane: known.row.lane,
    channel: line.channel,
  }
  return { ...bare, again: waits.within, out, waits: waitChange(waits, of, kept, calls, parts.self) }
}

/** What a handler's answer comes to. */
async function answered(
  parts: TurnParts,
  turn: Turn,
  plan: Running,
  answer: HandlerAnswer,
  before: SoFar,
): Promise<Ending> {
  const { outcome } = answer
  let soFar: SoFar = { ...before, replies: [...before.replies, ...repliesIn(answer)] }
  if (outcome.state !== undefined) soFar.state = outcome.state
  if (outcome.contact) soFar.contact = { ...soFar.contact, ...fieldsIn(outcome.contact) }
  let { leave } = outcome
  if (outcome.interview) {
    const step = interviewStep(turn, plan, outcome.interview)
    // Refused once too often, and its way out is an answer of the author's own.
    if ("happened" in step) return run(parts, turn, { ...plan, goesOn: step }, soFar)
    const { state, contact } = outcome.interview.remember
    soFar = taking(soFar, step)
    if (state) soFar.state = { ...(soFar.state ?? turn.line.state), ...state }
    if (contact) soFar.contact = { ...soFar.contact, ...fieldsIn(contact) }
    leave = step.leave
  } else if (plan.open && !leave) soFar = taking(soFar, afterAside(turn.talks!, plan.open, plan.route?.name))
  const wrong = leave && leaveFault(turn, leave, soFar)
  if (wrong !== undefined) throw new HandlerFault({ name: "LeaveFault", message: wrong })
  if (leave) return leaveTo(parts, turn, leave, plan, soFar, takenBy(turn, plan))
  return finish(parts, turn, plan.message, soFar, takenBy(turn, plan))
}

/** What an interview came to, as it may be kept: what a handler says of itself is looked at like anything from outside. */
function checked(turn: Turn, plan: Running, given: InterviewResult): InterviewResult {
  const { entries: before = 0 } = plan.goesOn?.interview ?? {}
  const fault =
    resultFault(given) ??
    (given.entries.some(({ n }, at) => n !== before + at + 1) || before + given.entries.length > mostEntries
      ? "its journal does not continue where it ended"
      : undefined)
  if (fault !== undefined)
    throw new HandlerFault({ name: "InterviewFault", message: `the interview cannot be kept: ${fault}` })
  return { ...given, id: interviewOf(turn, plan) }
}

/** The interview a run is about: one that goes on, or the one its first message would begin. */
function interviewOf({ messages }: Turn, { goesOn }: Running): string {
  return goesOn?.interview.id ?? `itv_${messages[0]!.id.slice(4)}`
}

/** Interviews that may run for one person in a conversation: each is looked at with every turn. */
const mostRunning = 50
function interviewStep(turn: Turn, plan: Running, given: InterviewResult): ReturnType<typeof ranStep> {
  const result = checked(turn, plan, given)
  const { line, release, messages, known, blank } = turn
  const now = blank.turn.startedAt
  const talks = turn.talks ?? talksOf(release!.table, known, line.conversation, [], messages.at(-1)!, now)
  if (result.tooDeep) return tooDeep(talks, plan.open)
  return ranStep(talks, result, {
    handler: String(plan.handler),
    route: plan.route?.name,
    release: release!.id,
    mark: blank.turn.id,
    ...(plan.goesOn ? { before: plan.goesOn.interview, happened: plan.goesOn.happened } : {}),
  })
}

/** Turns a message may be left from one route to the next. */
const mostLeft = 3

/** Why nothing can be left so; nothing where it can. */
function leaveFault({ release }: Turn, to: Leaving, { left }: SoFar): string | undefined {
  if (to === "person") return undefined
  if (!release!.table.bot.routes.some(({ name }) => name === to?.route))
    return `it leaves to the route "${String(to?.route)}", which there is not`
  return left >= mostLeft ? `it was left from route to route ${mostLeft} times: they lead to each other` : undefined
}

/** The conversation is left to a person, or the message to another route. */
async function leaveTo(
  parts: TurnParts,
  turn: Turn,
  to: Leaving,
  plan: Plan & { message: Message },
  soFar: SoFar,
  taken?: { [route: string]: number },
): Promise<Ending> {
  if (to === "person") return finish(parts, turn, plan.message, { ...soFar, handed: true }, taken)
  const fault = leaveFault(turn, to, soFar)
  if (fault !== undefined)
    return failed(turn, soFar.record, new HandlerFault({ name: "LeaveFault", message: fault }), turnTries)
  const route = turn.release!.table.bot.routes.find(({ name }) => name === to.route)
  const { message } = plan
  const next: Running = { does: "run", handler: route!.handler, route: route!, slots: {}, message, leg: soFar.left + 1 }
  return run(parts, turn, next, { ...soFar, left: soFar.left + 1 })
}

async function finish(
  parts: TurnParts,
  turn: Turn,
  message: Message,
  soFar: SoFar,
  taken?: { [route: string]: number },
): Promise<Ending> {
  if (soFar.state && JSON.stringify(soFar.state).length > longestState)
    throw new HandlerFault({
      name: "StateFault",
      message: `the new state has more than ${longestState / 1024} kB: keep large things elsewhere, and where they are in it`,
    })
  if (soFar.state && turn.release) await mustFit(turn.release, storableJson(soFar.state))
  const replies = await completed(parts.database, soFar.replies, turn.known)
  const done = await said(parts, turn, replies, message)
  const ending = withInterviews(turn, ended(parts, turn, soFar.record, done, soFar.state, taken), soFar.changes)
  if (soFar.contact) ending.contact = contactChange(turn, soFar.contact)
  if (soFar.handed) ending.handed = true
  return ending
}

/** Fields of a person as a handler gives them: few, by names as the API takes them. */
function fieldsIn(given: unknown): { [field: string]: unknown } {
  const { error } = fields.validate(given) as { error?: Error }
  if (error)
    throw new HandlerFault({ name: "ContactFault", message: `the person's fields cannot be kept: ${error.message}` })
  return given as { [field: string]: unknown }
}

/** The same that may be set by hand. */
const fields = personFields.messages({ "object.base": "they are values by their names" })

function contactChange({ messages }: Turn, fields: { [field: string]: unknown }): TurnResult["contact"] {
  const { contact } = messages.at(-1)!
  return contact === null ? undefined : { id: contact, fields: storableJson(fields) }
}

/** With what became of interviews; whether any runs stands with the state. */
function withInterviews({ talks, line }: Turn, ending: Ending, changes: InterviewChange[]): Ending {
  if (changes.length === 0) return ending
  const after = new Map((talks?.running ?? []).map(({ id }) => [id, true]))
  for (const { id, stands } of changes) after.set(id, stands !== "ended")
  const running = [...after.values()].includes(true)
  const { state = line.state, offered = line.offered } = ending
  return { ...ending, state, offered, running, interviews: changes }
}

/** How often the route has taken something in this conversation, without what is being decided. */
function timesOf({ facts }: Turn, { route }: Plan & { does: "run" }): number {
  return facts?.taken?.[route?.name ?? unroutedName] ?? 0
}

function givenBy(parts: TurnParts, turn: Turn, plan: Running, secrets: Values): HandlerGiven {
  const keeping = keepingFor(parts, turn, plan)
  const { once } = keeping
  return {
    secrets,
    // What a side effect gives is on record: the same run has it whole, a later one masked.
    keeping: { ...keeping, once: onceWithout(secrets, once) },
    deadline: plan.route?.deadline ?? turn.release!.table.bot.deadline,
    times: timesOf(turn, plan),
    fields: turn.facts?.contact?.fields ?? {},
    ...(handlerOf(plan.handler).kind.asksElsewhere ? { asking: askingFor(parts, turn, plan) } : {}),
  }
}

/** Who asks elsewhere, for handlers that do. */
function askingFor(parts: TurnParts, turn: Turn, plan: Running): Asking {
  const { messages, release, known, facts } = turn
  const { standing, leg = 0 } = plan
  const [first] = messages
  return askingOf(parts, {
    input: inputOf(turn, plan),
    message: first!.id,
    position: first!.position,
    leg,
    fields: facts?.contact?.fields ?? {},
    about: {
      bot: release!.table.bot.bot,
      lane: known.row.lane,
      route: plan.route?.name ?? null,
      release: release!.id,
    },
    trial: messages.some(({ message }) => message.simulated === "captured"),
    claim: { conversation: turn.line.conversation, fence: turn.line.fence, holder: parts.self },
    to: turn.blank.heard,
    standing,
  })
}

/** What code needs of the record while it runs. */
function keepingFor({ database, self, follows }: TurnParts, turn: Turn, plan: Running): Keeping {
  const { line, messages, blank, release, talks } = turn
  const { goesOn, open } = plan
  const [first] = messages
  const own = talks?.running.filter(({ who }) => who === talks.who) ?? []
  const deep = (open !== undefined && own.some(({ stands }) => stands === "set aside")) || own.length >= mostRunning
  return keepingOf(database, {
    claim: { conversation: line.conversation, fence: line.fence, holder: self },
    message: first!.id,
    from: first!.position,
    to: blank.heard,
    contact: messages.at(-1)!.contact,
    interview: {
      id: interviewOf(turn, plan),
      release: release!.id,
      mark: blank.turn.id,
      ...(goesOn ? { goesOn: { mark: goesOn.interview.mark, happened: goesOn.happened } } : {}),
      ...(follows ? { twice: true } : {}),
      ...(deep ? { tooDeep: true } : {}),
    },
  })
}

/** The counts of the conversation with this turn in them; undefined where the route is not counted. */
function takenBy(turn: Turn, plan: Plan & { does: "run" }): { [route: string]: number } | undefined {
  const name = plan.route?.name ?? unroutedName
  const { counted } = turn.release!.table
  if (!counted.has(name)) return undefined
  const before = Object.entries(turn.facts?.taken ?? {}).filter(([route]) => counted.has(route))
  return { ...Object.fromEntries(before), [name]: timesOf(turn, plan) + 1 }
}

/** Milliseconds after which a handler that runs is on record, so that nobody takes its message for waiting. */
const slowAfter = 1000

/** Puts a handler on record while it runs, if that takes long. What the record will not take changes nothing. */
function tellIfSlow({ database, bell }: TurnParts, { line, blank }: Turn, handler: string): { over(): Promise<void> } {
  const { id: _id, messages, startedAt } = blank.turn
  const turn = { conversation: line.conversation, fence: line.fence, messages, handler, since: startedAt }
  let noted: Promise<void> | undefined
  const timer = setTimeout(() => {
    noted = noteUnderWay(database, turn).then(
      () => bell.ring("live"),
      () => undefined,
    )
  }, slowAfter)
  return {
    async over() {
      clearTimeout(timer)
      if (!noted) return
      await noted
      await forgetUnderWay(database, turn).catch(() => undefined)
    },
  }
}

function inputOf({ line, known, messages, blank }: Turn, plan: Plan & { does: "run" }): TurnInput {
  const { message, slots } = plan
  return {
    message,
    messages: messages.map((message) => message.message),
    slots,
    state: line.state,
    contact: contactOf(message, messages.at(-1)!.contact),
    conversation: { id: line.conversation, place: line.place },
    channel: { key: line.channel, kind: known.row.kind },
    again: line.tries > 0,
    now: blank.turn.startedAt.toISOString(),
  }
}

function repliesIn({ outcome, log }: HandlerAnswer): ReplyPart[] {
  const replies = outcome.replies ?? []
  const fault = replyFault(replies)
  if (fault)
    throw new HandlerFault({ name: "ReplyFault", message: `the handler's reply cannot be said: ${fault}` }, log)
  return replies as ReplyPart[]
}

async function said(
  { renderer }: TurnParts,
  { line, known, blank, messages, standing }: Turn,
  replies: ReplyPart[],
  lead: Message,
): Promise<Assembled> {
  const done = await assemble(renderer, replies, { line, known, lead, answers: blank.turn.messages })
  if (standing?.draft !== undefined)
    await orInstead(renderer, done, replies, { known, place: line.place, draft: standing.draft })
  if (!messages.some(({ message }) => message.simulated === "captured")) return done
  // A real message among them does not make it safe to send: what was made up is answered nowhere.
  const out = done.out.map((message) => ({
    ...message,
    calls: message.calls.map((call) => ({ ...call, captured: true as const })),
  }))
  return { ...done, out }
}

/** The turn as it ends well: what is said, and the state it leaves. */
function ended(
  { sender }: TurnParts,
  { line }: Turn,
  record: Partial<TurnRecord>,
  { out, tokens, offered, degraded }: Assembled,
  given?: { [field: string]: unknown } | null,
  taken?: { [route: string]: number },
): Ending {
  const [first] = out
  if (first && sender?.mayStart(line.channel, line.place, first.calls[0]!)) first.start = true
  const state = given === undefined ? undefined : storableJson(given ?? {})
  if (state !== undefined) record.stateAfter = state
  if (degraded.length > 0) record.degraded = [...((record.degraded ?? []) as string[]), ...degraded]
  if (state === undefined && offered === undefined && taken === undefined) return { turn: record, out, tokens }
  // One row holds them all.
  return { turn: record, out, tokens, state: state ?? line.state, offered: offered ?? line.offered, taken }
}

/** Faults in what a handler answered, not in its running: the same answer would come again. */
const unfit: ReadonlySet<string> = new Set([
  "NoAnswer",
  "ReplyFault",
  "StateFault",
  "ContactFault",
  "InterviewFault",
  "LeaveFault",
])

/** A turn that has twice ended a process which had nothing else under way. */
export function endedProcesses(line: Line, group: PendingMessage[]): TurnResult {
  const says = "the service ended twice while it took this turn and nothing else"
  const blank = blankOf(line, undefined, group, wallClock("record"))
  if (line.waits > 0) blank.waited = true
  return settled(blank, {
    turn: { reason: says, stateBefore: line.state, outcome: "parked" },
    parked: {
      cause: "service failed",
      reason: says,
      remedy: "What its process last said stands in the log. Retry once that is fixed, or drop it.",
    },
  })
}

/** The turn of a group of messages where the service itself threw something: tried again, and parked in the end. */
export function faulted(
  line: Line,
  release: ReadyRelease | undefined,
  group: PendingMessage[],
  startedAt: Date,
  thrown: unknown,
): TurnResult {
  const blank = blankOf(line, release, group, startedAt)
  // What of it may be shown is short and without its stack, which stands in the log.
  const { name, message } = thrown instanceof Error ? thrown : new Error(String(thrown))
  const error = { name, message: storable(message).slice(-300) }
  const tries = line.tries + 1
  const record = { reason: `the service failed: ${error.message}`, error, stateBefore: line.state }
  const again = retryAfter(tries, turnTries, Math.random)
  if (again !== undefined)
    return settled(blank, { turn: { ...record, outcome: "failed" }, heard: line.heard, again, tries })
  // Whatever it waits for from elsewhere is waited for no longer.
  if (line.waits > 0) blank.waited = true
  return settled(blank, {
    turn: { ...record, outcome: "parked" },
    parked: {
      cause: "service failed",
      reason: `the service failed (${tries} times): ${error.message}`,
      remedy: "This is a fault of Wobbet's own, and stands in its log. Retry after an upgrade, or drop it.",
    },
  })
}

/** A failure is retried, then parked. */
function failed({ line }: Turn, record: Partial<TurnRecord>, fault: HandlerFault, most: number): Ending {
  const tries = line.tries + 1
  const error = storableJson(fault.error)
  const log = fault.log.length > 0 ? { log: fault.log.map(storable) } : {}
  const again = unfit.has(fault.error.name) ? undefined : retryAfter(tries, most, Math.random)
  const turn = { ...record, ...log, reason: `the handler failed: ${error.message}`, error }
  if (again !== undefined) return { turn: { ...turn, outcome: "failed" }, heard: line.heard, again, tries }
  const times = tries > 1 ? ` (${tries} times)` : ""
  return {
    turn: { ...turn, outcome: "parked" },
    parked: {
      cause: "handler failed",
      reason: `the handler "${record.handler}" failed${times}: ${error.message}`,
      remedy: "Fix the handler, then retry.",
    },
  }
}

/** Who writes, as a handler is told. */
function contactOf({ from }: Message, id: string | null): TurnInput["contact"] {
  const contact: TurnInput["contact"] = {}
  if (id) contact.id = id
  if (from?.name) contact.name = from.name
  if (from?.handle) contact.handle = from.handle
  if (from?.language) contact.language = from.language
  if (from?.address) contact.address = from.address
  return contact
}
