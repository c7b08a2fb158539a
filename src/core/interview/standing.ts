import type { Message, Moment } from "../message/message.ts"
import type { ReplyPart } from "../message/reply.ts"
import { spokenEvents } from "../message/message.ts"
import type { Happened, InterviewSettings } from "./interviewRun.ts"
import type { NoAnswer, Question } from "./question.ts"
import type { AnswerReading } from "./readAnswer.ts"
import { noId, readAnswer, yesId } from "./readAnswer.ts"
import type { InterviewTexts, InterviewWords } from "./words.ts"
import { isOneOf } from "./words.ts"

/** What a running interview waits for, as it is kept between turns. */
export type Waits = { settings: InterviewSettings; language?: string } & (
  | {
      for: "answer"
      question: Question
      /** Which question of the interview it is: its options are told from those of others by that. */
      n: number
      /** How often something was said that was no answer. */
      tries: number
      /** ISO 8601. */
      askedAt: string
      /** The options picked so far, where several may be. */
      picked?: string[]
    }
  | { for: "time"; until: string }
  | { for: "word"; when: object; until?: string }
)

/** A running interview, as a turn finds it. */
export interface StandingInterview {
  id: string
  /** Whose it is: a contact, or an address where there is none. */
  who: string
  handler: string
  route: string | null
  release: string
  stands: "asks" | "waits" | "set aside"
  waits: Waits
  mark: string
  entries: number
  /** The interview that was set aside for it. */
  beneath: string | null
  simulated: "captured" | "sent" | null
}

/** What becomes of a message where interviews run. */
export type Heard =
  | { does: "run"; interview: StandingInterview; happened: Happened }
  | { does: "pick"; interview: StandingInterview; picked: string[] }
  | { does: "cancel" | "remind" | "put again" | "late" | "end"; interview: StandingInterview }
  /** A button of a question that is over. */
  | { does: "tell"; moment: keyof InterviewTexts; open: StandingInterview | undefined }
  | { does: "nothing"; reason: string }
  /**
   * The routes decide.
   *
   * @property open the question that stands: only what is said to a route itself leaves it, and it is put again then
   * @property no why what was said is no answer to it
   */
  | { does: "decide"; open: StandingInterview | undefined; no: NoAnswer | undefined }

/** The option that ends picking several. */
export const enoughId = "enough"

/** Whose a message is. */
export function whoOf(contact: string | null, message: Message): string {
  return contact ?? `@${message.from?.address ?? ""}`
}

/** An option's id as a channel knows it: no other question has it. */
export function optionId(interview: string, n: number, id: string): string {
  return `${interview}:${n}:${id}`
}

function pressed(message: Message): { interview: string; n: number; ids: string[] } | undefined {
  const ids = message.choice ? (message.choice.ids ?? [message.choice.id]) : []
  const read = ids.map((id) => /^(itv_[0-9a-z]{26}):(\d{1,4}):([^]*)$/.exec(id))
  const [first] = read
  if (!first) return undefined
  return { interview: first[1]!, n: Number(first[2]), ids: read.flatMap((one) => one?.[3] ?? []) }
}

/**
 * Decides who a message is for: the open question first, then what is expected, then the routes.
 *
 * @param given.meets whether the message meets a condition, as routes have it
 */
export function hear(given: {
  running: StandingInterview[]
  who: string
  message: Message
  words: InterviewWords
  reading: AnswerReading
  meets: (when: object) => boolean
}): Heard {
  const { running, who, message, words, reading, meets } = given
  if (message.moment) return ofMoment(running, message.moment)
  const decide: Heard = { does: "decide", open: undefined, no: undefined }
  if (!spokenEvents.has(message.event)) return decide
  const mine = running.filter((interview) => interview.who === who)
  const open = mine.find(({ stands }) => stands === "asks")
  const press = pressed(message)
  if (press) {
    const waits = open?.waits
    if (open && waits?.for === "answer" && open.id === press.interview && waits.n === press.n)
      return ofPress(open, waits, { ...message, choice: { id: press.ids[0]!, ids: press.ids } }, reading)
    const others = running.find(({ id, who: whose }) => id === press.interview && whose !== who)
    if (others) return { does: "nothing", reason: "the question was put to somebody else" }
    return { does: "tell", moment: "answered", open }
  }
  if (open?.waits.for === "answer") return ofQuestion(open, open.waits, message, words, reading)
  const expecting = mine.findLast(({ waits }) => waits.for === "word" && meets(waits.when))
  if (expecting) return { does: "run", interview: expecting, happened: { what: "word", message } }
  return decide
}

type WaitsForAnswer = Waits & { for: "answer" }

function ofQuestion(
  open: StandingInterview,
  waits: WaitsForAnswer,
  message: Message,
  words: InterviewWords,
  reading: AnswerReading,
): Heard {
  const { question } = waits
  const text = message.event === "text" ? (message.text ?? "") : ""
  const isOption = question.options?.some(({ label }) => isOneOf(text, [label])) === true
  if (message.command?.name === "cancel" || (!isOption && isOneOf(text, words.cancel)))
    return { does: "cancel", interview: open }
  if (message.command?.name === "back" || (!isOption && isOneOf(text, words.back)))
    return { does: "run", interview: open, happened: { what: "back" } }
  const apart = message.event === "command" || message.event === "choice"
  const read = apart ? { no: { reason: "unread" as const } } : readAnswer(question, message, reading)
  if ("value" in read) return answered(open, question, read.value)
  return { does: "decide", open, no: read.no }
}

function answered(open: StandingInterview, question: Question, value: unknown): Heard {
  const { kind } = question
  const ids = kind === "choice" ? { ids: [String(value)] } : kind === "choices" ? { ids: value as string[] } : {}
  return { does: "run", interview: open, happened: { what: "answered", kind, value, ...ids } }
}

/** A button of the open question. Where several may be picked, each press adds one or takes it back. */
function ofPress(open: StandingInterview, waits: WaitsForAnswer, message: Message, reading: AnswerReading): Heard {
  const { question, picked = [] } = waits
  const { id, ids = [] } = message.choice!
  if (question.kind === "choices" && ids.length < 2) {
    const after = picked.includes(id) ? picked.filter((one) => one !== id) : [...picked, id]
    const enough = id === enoughId || after.length === question.max
    if (!enough) return { does: "pick", interview: open, picked: after }
    const chosen = id === enoughId ? picked : after
    message = { ...message, choice: { id: chosen[0] ?? "", ids: chosen } }
  }
  const read = readAnswer(question, message, reading)
  return "value" in read ? answered(open, question, read.value) : { does: "decide", open, no: read.no }
}

function ofMoment(running: StandingInterview[], { interview: id, mark, what }: Moment): Heard {
  const interview = running.find((one) => one.id === id)
  if (!interview) return { does: "nothing", reason: "the interview has ended meanwhile" }
  if (what === "end") return { does: "end", interview }
  if ((mark !== undefined && interview.mark !== mark) || interview.stands === "set aside")
    return { does: "nothing", reason: "what it waited for came meanwhile" }
  switch (what) {
    case "aside":
      if (interview.stands !== "asks") return { does: "nothing", reason: "no question of it is open" }
      return { does: "put again", interview }
    case "reminder":
      return { does: "remind", interview }
    case "late":
      return { does: "late", interview }
    case "back":
      if (interview.stands !== "asks") return { does: "nothing", reason: "no question of it is open" }
      return { does: "run", interview, happened: { what: "back" } }
    case "time":
      return { does: "run", interview, happened: { what: "time" } }
    case "word":
      return { does: "run", interview, happened: { what: "word" } }
  }
}

/** A question as it is put, in the person's language. */
export function questionPart(interview: string, waits: WaitsForAnswer, words: InterviewWords): ReplyPart {
  const { question, n, picked = [] } = waits
  const { kind, text, perRow } = question
  const put = (id: string, label: string) => ({ id: optionId(interview, n, id), label })
  const row = perRow === undefined ? {} : { perRow }
  if (kind === "yesNo") {
    const { yes, no } = words.labels
    return { part: "choices", text, choices: [put(yesId, yes), put(noId, no)], perRow: perRow ?? 2 }
  }
  if (question.options === undefined) return { part: "text", text }
  const shown = question.options.map(({ id, label }) => put(id, picked.includes(id) ? `✓ ${label}` : label))
  const enough = kind === "choices" && picked.length > 0 ? [put(enoughId, words.labels.enough)] : []
  return { part: "choices", text, choices: [...shown, ...enough], ...row }
}
