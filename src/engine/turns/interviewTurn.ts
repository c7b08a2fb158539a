import { DateTime } from "luxon"
import { kindOf } from "../../core/channels/registry.ts"
import type { Happened, InterviewResult, InterviewSettings, Stands } from "../../core/interview/interviewRun.ts"
import type { Leaving, NoAnswer, Question, WayOut } from "../../core/interview/question.ts"
import type { AnswerReading } from "../../core/interview/readAnswer.ts"
import type { Heard, StandingInterview, Waits } from "../../core/interview/standing.ts"
import { questionPart, whoOf } from "../../core/interview/standing.ts"
import type { InterviewTexts, InterviewWords } from "../../core/interview/words.ts"
import { reasonWords, wordsIn } from "../../core/interview/words.ts"
import { storableJson } from "../../core/message/graphemes.ts"
import type { Message } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { Bot } from "../../core/routing/bot.ts"
import type { Condition } from "../../core/routing/condition.ts"
import type { RouteTable } from "../../core/routing/table.ts"
import { variantsFor } from "../../core/routing/texts.ts"
import { newId } from "../../store/ids.ts"
import type { InterviewChange, InterviewEnd, TimerSet } from "../../store/interviews.ts"
import type { PendingMessage } from "../../store/lines.ts"
import type { KnownChannel } from "../channels.ts"
import { HandlerFault } from "../handlers/handler.ts"

/** Milliseconds an answer is waited for, and before the end of that the person is reminded, where nobody says otherwise. */
const usualWithin = 86_400_000
const usualRemind = 3_600_000
/** Answers that are none before the way out. */
const usualTries = 3

/** Everything a turn has to know to speak for interviews. */
export interface Talks {
  conversation: string
  running: StandingInterview[]
  /** Whose turn it is. */
  who: string
  language: string | undefined
  words: InterviewWords
  reading: AnswerReading
  bot: Bot
  table: RouteTable
  /** The word that leaves a question, as it is told. */
  cancel: string
  now: Date
  simulated: "captured" | "sent" | undefined
}

/** What a turn did with an interview, as it stands with the turn. */
export interface InterviewNote {
  id: string
  did: string
  question?: string
  value?: unknown
  why?: string
  aside?: string
  differs?: InterviewResult["differs"]
  unsteady?: InterviewResult["unsteady"]
}

/** What comes of a turn for interviews. */
export interface InterviewStep {
  replies: ReplyPart[]
  changes: InterviewChange[]
  note: InterviewNote
  leave?: Leaving
}

export function talksOf(
  table: RouteTable,
  known: KnownChannel,
  conversation: string,
  running: StandingInterview[],
  last: PendingMessage,
  now: Date,
): Talks {
  const { bot } = table
  const { message } = last
  const timed = running.find(({ id }) => id === message.moment?.interview)
  const language = message.from?.language ?? timed?.waits.language
  const languages = [...(language ? [language] : []), ...bot.language]
  const usual = wordsIn(languages)
  const own = bot.interviews ?? {}
  const words = {
    ...usual,
    cancel: [...usual.cancel, ...(own.cancel ?? [])],
    back: [...usual.back, ...(own.back ?? [])],
  }
  // There the word "cancel" itself asks for nothing more to be sent.
  const obeys = kindOf(known.row.kind).abilities.obeysStopWords === true
  return {
    conversation,
    running,
    who: timed?.who ?? whoOf(last.contact, message),
    language,
    words,
    reading: {
      languages: [...new Set(languages)],
      zone: bot.zone,
      now: message.sentAt ?? now.toISOString(),
      ...(bot.country === undefined ? {} : { country: bot.country }),
    },
    bot,
    table,
    cancel: obeys ? usual.cancel[1]! : usual.cancel[0]!,
    now,
    simulated: timed?.simulated ?? message.simulated,
  }
}

/** What is said at a moment: in the interview's own words, the bot's, or ours. */
function textAt(talks: Talks, moment: keyof InterviewTexts, settings: InterviewSettings = {}): string {
  const bots = talks.bot.interviews?.texts?.[moment]
  const own =
    settings.texts?.[moment] ??
    (bots === undefined ? undefined : variantsFor(bots, talks.language, talks.bot.language).variants[0])
  return (own ?? talks.words.texts[moment]).replace("{cancel}", talks.cancel)
}

const say = (text: string): ReplyPart => ({ part: "text", text })

/** An interview as it stands after a turn. */
function changed(
  talks: Talks,
  { id, who, handler, route, release, stands, waits, mark, entries, beneath, simulated }: StandingInterview,
  to: Partial<InterviewChange>,
): InterviewChange {
  return {
    id,
    conversation: talks.conversation,
    who,
    handler,
    route: route ?? undefined,
    release,
    stands,
    waits,
    mark,
    count: entries,
    beneath: beneath ?? undefined,
    simulated: simulated ?? undefined,
    ended: undefined,
    why: undefined,
    entries: [],
    timers: undefined,
    ...to,
  }
}

/** Puts a question again, with what is said before it; whoever answers has the whole time again. */
function putAgain(talks: Talks, interview: StandingInterview, to: Partial<Waits> = {}): InterviewStep {
  const waits = { ...interview.waits, ...to } as Waits & { for: "answer" }
  const change = changed(talks, interview, { stands: "asks", waits, timers: timersFor(talks, waits) })
  const note = { id: interview.id, did: "asked again", question: waits.question.text }
  return { replies: [questionPart(interview.id, waits, talks.words)], changes: [change], note }
}

/** Ends an interview; the one that was set aside for it stands again. */
export function endedStep(
  talks: Talks,
  interview: StandingInterview,
  ended: InterviewEnd,
  replies: ReplyPart[],
  to: Partial<InterviewChange> = {},
): InterviewStep {
  const end = changed(talks, interview, { stands: "ended", ended, waits: undefined, timers: [], ...to })
  const again = standsAgain(talks, interview)
  return {
    replies: [...replies, ...again.replies],
    changes: [end, ...again.changes],
    note: { id: interview.id, did: ended },
  }
}

/** The question that was set aside, where it may be answered again. */
function standsAgain(
  talks: Talks,
  { id, who, beneath }: StandingInterview,
): Pick<InterviewStep, "replies" | "changes"> {
  const aside = talks.running.filter((one) => one.id !== id && one.who === who && one.stands === "set aside")
  // The one it was set aside for; where that has ended meanwhile, the one that began last.
  const next = aside.find((one) => one.id === beneath) ?? aside.at(-1)
  return next ? putAgain(talks, next) : { replies: [], changes: [] }
}

/** The step of what was heard, where no handler has to run for it; otherwise the run it takes. */
export function stepOf(
  talks: Talks,
  heard:
    Exclude<Heard, { does: "decide" | "nothing" }> | { does: "ask again"; interview: StandingInterview; no: NoAnswer },
): InterviewStep | { interview: StandingInterview; happened: Happened } {
  switch (heard.does) {
    case "run":
      return heard
    case "tell": {
      const text = say(textAt(talks, heard.moment))
      if (!heard.open) return { replies: [text], changes: [], note: { id: "", did: "told that the question is over" } }
      const again = putAgain(talks, heard.open)
      return { ...again, replies: [text, ...again.replies] }
    }
    case "pick":
      return {
        ...putAgain(talks, heard.interview, { picked: heard.picked }),
        note: { id: heard.interview.id, did: "picked" },
      }
    case "cancel": {
      const { interview } = heard
      return endedStep(talks, interview, "cancelled", [say(textAt(talks, "cancelled", interview.waits.settings))])
    }
    case "end":
      return endedStep(talks, heard.interview, "ended by hand", [])
    case "late": {
      const { interview } = heard
      return endedStep(talks, interview, "late", [say(textAt(talks, "late", interview.waits.settings))])
    }
    case "put again":
      return putAgain(talks, heard.interview)
    case "remind": {
      const { interview } = heard
      const { waits } = interview
      const question = waits.for === "answer" ? [questionPart(interview.id, waits, talks.words)] : []
      return {
        replies: [say(textAt(talks, "reminder", waits.settings)), ...question],
        changes: [],
        note: { id: interview.id, did: "reminded" },
      }
    }
    case "ask again":
      return askedAgain(talks, heard.interview, heard.no)
  }
}

/** What was said is no answer: the question is put again with the reason, so many times, and then the way out is taken. */
function askedAgain(
  talks: Talks,
  interview: StandingInterview,
  no: NoAnswer,
  to: Partial<InterviewChange> = {},
): InterviewStep | { interview: StandingInterview; happened: Happened } {
  const waits = interview.waits as Waits & { for: "answer" }
  const { question, settings } = waits
  const why = reasonWords(talks.words, question.kind, no)
  const tries = waits.tries + 1
  if (tries < (question.tries ?? settings.tries ?? talks.bot.interviews?.tries ?? usualTries)) {
    const hint = tries > 1 ? ` ${textAt(talks, "leaveIt", settings)}` : ""
    const again = putAgain(talks, interview, { tries, askedAt: talks.now.toISOString() } as Partial<Waits>)
    const [change] = again.changes
    return {
      replies: [say(`${why}${hint}`), ...again.replies],
      changes: [{ ...change!, ...to, timers: change!.timers }],
      note: { ...again.note, why },
    }
  }
  return wayOut(talks, interview, question.otherwise, to)
}

function wayOut(
  talks: Talks,
  interview: StandingInterview,
  way: WayOut | undefined,
  to: Partial<InterviewChange>,
): InterviewStep | { interview: StandingInterview; happened: Happened } {
  const { question, settings } = interview.waits as Waits & { for: "answer" }
  if (way && "value" in way)
    return { interview, happened: { what: "answered", kind: question.kind, value: way.value, given: true } }
  if (way && "leave" in way) return { ...endedStep(talks, interview, "left", [], to), leave: way.leave }
  return endedStep(talks, interview, "given up", [say(way ? way.say : textAt(talks, "givenUp", settings))], to)
}

/** What comes of an interview that has run. */
export function ranStep(
  talks: Talks,
  result: InterviewResult,
  given: {
    handler: string
    route: string | undefined
    release: string
    mark: string
    before?: StandingInterview
    happened?: Happened
  },
): InterviewStep | { interview: StandingInterview; happened: Happened } {
  const { before, happened, mark } = given
  const { stands, settings } = result
  const entries = storableJson(result.entries)
  const count = (before?.entries ?? 0) + entries.length
  const base: StandingInterview = before ?? {
    id: result.id,
    who: talks.who,
    handler: given.handler,
    route: given.route ?? null,
    release: given.release,
    stands: "waits",
    waits: { settings, for: "time", until: "" },
    mark,
    entries: 0,
    beneath: null,
    simulated: talks.simulated ?? null,
  }
  const now: StandingInterview = { ...base, release: given.release, mark, entries: count }
  const common = { entries, mark, count, release: given.release }
  const noted = noteOf(result, before, happened)
  if (result.differs) {
    const { n, was, is } = result.differs
    const why = `the handler has changed: entry ${n} of the journal is ${was}, and now it ${is}`
    const step = endedStep(talks, now, "changed", [say(textAt(talks, "changed", settings))], { ...common, why })
    return { ...step, note: { ...noted, did: "changed", why } }
  }
  if (result.tooLong !== undefined) {
    const why = result.tooLong
    const step = endedStep(talks, now, "too long", [say(textAt(talks, "tooLong", settings))], { ...common, why })
    return { ...step, note: { ...noted, did: "too long", why } }
  }
  if (result.noWayBack && before?.waits.for === "answer") {
    const again = putAgain(talks, now)
    const replies = [say(textAt(talks, "noWayBack", settings)), ...again.replies]
    return { replies, changes: [{ ...again.changes[0]!, ...common }], note: { ...noted, did: "found no way back" } }
  }
  if (result.refused !== undefined && before) {
    const again = askedAgain(talks, { ...now, waits: before.waits }, { reason: "author", why: result.refused }, common)
    if ("happened" in again) return again
    return { ...again, note: { ...noted, ...again.note, why: result.refused } }
  }
  if ("ended" in stands) {
    const left = stands.ended === "left"
    const said = left && stands.say ? [say(stands.say)] : []
    const step = endedStep(talks, now, left ? "left" : "done", said, common)
    return { ...step, note: noted, ...(left ? { leave: stands.to } : {}) }
  }
  return { ...waitingStep(talks, now, stands, settings, common), note: noted }
}

function noteOf(
  { id, differs, unsteady, stands }: InterviewResult,
  before: StandingInterview | undefined,
  happened: Happened | undefined,
): InterviewNote {
  const note: InterviewNote = { id, did: !before ? "began" : happened?.what === "back" ? "went back" : "continued" }
  if (happened?.what === "answered") {
    note.did = "answered"
    note.value = happened.value
    if (before?.waits.for === "answer") note.question = before.waits.question.text
  }
  if ("ended" in stands && !differs) note.did += stands.ended === "left" ? ", and left" : ", and ended"
  if (differs) note.differs = differs
  if (unsteady) note.unsteady = unsteady
  return note
}

/** It waits: for an answer, for a time, or for something to be said. */
function waitingStep(
  talks: Talks,
  interview: StandingInterview,
  stands: Extract<Stands, { waits: string }>,
  settings: InterviewSettings,
  common: Pick<InterviewChange, "entries" | "mark" | "count" | "release">,
): Pick<InterviewStep, "replies" | "changes"> {
  const with_ = { settings, ...(talks.language ? { language: talks.language } : {}) }
  if (stands.waits === "answer") {
    const { question } = stands
    const waits: Waits & { for: "answer" } = {
      ...with_,
      for: "answer",
      question: questionFor(question),
      n: common.count,
      tries: 0,
      askedAt: talks.now.toISOString(),
    }
    const asks = changed(talks, interview, { ...common, stands: "asks", waits, timers: timersFor(talks, waits) })
    // One question at a time: the one that was open is set aside.
    const open = talks.running.find(
      (one) => one.id !== interview.id && one.who === interview.who && one.stands === "asks",
    )
    const aside = open ? [changed(talks, open, { stands: "set aside", timers: [] })] : []
    if (open) asks.beneath = open.id
    return { replies: [questionPart(interview.id, waits, talks.words)], changes: [asks, ...aside] }
  }
  const waits = waitsFor(talks, stands, with_)
  const timers = timersOf(stands, waits)
  const waiting = changed(talks, interview, { ...common, stands: "waits", waits, timers })
  const again = standsAgain(talks, interview)
  return { replies: again.replies, changes: [waiting, ...again.changes] }
}

/** The time it waits for: a length by the database's clock, an instant as it was named. */
function timersOf(stands: Extract<Stands, { waits: string }>, waits: Waits): TimerSet[] {
  const id = newId("tmr")
  if (stands.waits === "word")
    return stands.within === undefined ? [] : [{ id, what: "word", within: stands.within, at: undefined }]
  if (stands.waits !== "time" || waits.for !== "time") return []
  const { until } = stands
  const length = typeof until === "object"
  return [{ id, what: "time", within: length ? until.for : undefined, at: length ? undefined : waits.until }]
}

function waitsFor(
  talks: Talks,
  stands: Extract<Stands, { waits: string }>,
  with_: Pick<Waits, "settings" | "language">,
): Waits {
  const from = (ms: number) => new Date(talks.now.getTime() + ms).toISOString()
  if (stands.waits === "time") {
    const { until } = stands
    const at =
      typeof until === "object"
        ? from(until.for)
        : DateTime.fromISO(until, { zone: talks.bot.zone }).toJSDate().toISOString()
    return { ...with_, for: "time", until: at }
  }
  if (stands.waits !== "word") throw new Error("An interview waits for something unknown.")
  const { when, within } = stands
  try {
    talks.table.expecting(when as Condition)
  } catch (error) {
    throw new HandlerFault({
      name: "ExpectFault",
      message: `what is expected cannot be read: ${(error as Error).message}`,
    })
  }
  return { ...with_, for: "word", when, ...(within === undefined ? {} : { until: from(within) }) }
}

/** A question that can be put: what a handler made may hold anything. */
function questionFor(question: Question): Question {
  return storableJson(question)
}

function timersFor({ bot }: Talks, { question, settings }: Waits & { for: "answer" }): TimerSet[] {
  const own = bot.interviews ?? {}
  const within = question.within ?? settings.within ?? own.within ?? usualWithin
  const remind = question.remind ?? settings.remind ?? own.remind ?? usualRemind
  const late: TimerSet = { id: newId("tmr"), what: "late", within, at: undefined }
  if (remind <= 0 || remind >= within) return [late]
  return [{ id: newId("tmr"), what: "reminder", within: within - remind, at: undefined }, late]
}

/** An aside is over: the question that is open is put again. */
export function afterAside(talks: Talks, open: StandingInterview, route: string | undefined): InterviewStep {
  const again = putAgain(talks, open)
  return { ...again, note: { ...again.note, did: "stood aside", ...(route === undefined ? {} : { aside: route }) } }
}

/** One interview too many: a third within a second, or one beside so many that wait for one person. */
export function tooDeep(talks: Talks, open: StandingInterview | undefined): InterviewStep {
  const again = open ? putAgain(talks, open) : { replies: [], changes: [], note: { id: "", did: "" } }
  const note = { ...again.note, did: "began no other" }
  return { ...again, note, replies: [say(textAt(talks, "tooDeep")), ...again.replies] }
}

/** Whoever asks to be sent nothing more ends what runs. */
export function allStopped(conversation: string, running: StandingInterview[]): InterviewChange[] {
  const talks = { conversation } as Talks
  return running.map((interview) =>
    changed(talks, interview, { stands: "ended", ended: "stopped", waits: undefined, timers: [] }),
  )
}

/** A time that was over while nobody may be answered is waited for again. */
export function timerAgain(conversation: string, running: StandingInterview[], { moment }: Message): InterviewChange[] {
  const interview = running.find(({ id, mark }) => id === moment?.interview && mark === moment.mark)
  const what = moment?.what
  if (!interview || what === undefined || what === "end" || what === "back" || what === "aside") return []
  const again = { id: newId("tmr"), what, within: 0, at: undefined }
  const talks = { conversation } as Talks
  return [changed(talks, interview, { timers: [again], timersJoin: true })]
}
