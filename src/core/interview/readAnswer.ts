import { DateTime } from "luxon"
import type { Message } from "../message/message.ts"
import type { Option } from "../message/reply.ts"
import type { SlotType } from "../phrase/read.ts"
import type { Span } from "../phrase/spans.ts"
import { readSpans } from "../phrase/spans.ts"
import { readNumber, readWords } from "../phrase/words.ts"
import { optionMeant } from "../routing/optionMeant.ts"
import type { NoAnswer, Question } from "./question.ts"
import { foldedOnce, foldedWords, interviewWords, isOneOf, wordsIn } from "./words.ts"

/** In whose words an answer is read, and by whose clock. */
export interface AnswerReading {
  /** The person's own first, then the bot's. */
  languages: string[]
  /** IANA zone. */
  zone: string
  /** When it was said, ISO 8601. */
  now: string
  country?: string
}

export type AnswerRead = { value: unknown } | { no: NoAnswer }

/** Items of a list at most, and characters of each. */
const mostItems = 50
const longestItem = 500
/** Characters of an answer in which something is looked for, and of one that is kept as it is. */
const looked = 4000
const longestText = 40_000

const unread: AnswerRead = { no: { reason: "unread" } }

/**
 * What somebody said, as the answer to a question: people write "two", "the 3rd", "half past two", "yep" and "the second
 * one", and mean it. Gives why it is none where it cannot be read or lies beyond the question's bounds.
 */
export function readAnswer(question: Question, message: Message, reading: AnswerReading): AnswerRead {
  const said = (message.text ?? "").slice(0, looked)
  switch (question.kind) {
    case "text": {
      const text = (message.text ?? "").slice(0, longestText).trim()
      return message.event === "text" && text !== "" ? { value: text } : unread
    }
    case "number":
    case "integer":
      return numberIn(question, withoutChoice(message, said), reading)
    case "date":
      return dateIn(question, said, reading)
    case "time":
      return timeIn(question, said, reading)
    case "choice": {
      const meant = chosen(message) ?? optionIn(said, question.options ?? [], reading)
      return meant === undefined || !question.options?.some(({ id }) => id === meant) ? unread : { value: meant }
    }
    case "choices":
      return optionsIn(question, message, said, reading)
    case "yesNo":
      return yesOrNo(message, said, reading)
    case "phone":
      return message.contact?.phone ? { value: message.contact.phone } : onlySpan("phone", said, reading)
    case "email":
      return onlySpan("email", said, reading)
    case "media": {
      const wanted = (message.media ?? []).filter(({ kind }) => question.media?.includes(kind) ?? true)
      return wanted.length > 0 ? { value: wanted } : unread
    }
    case "location":
      return message.location ? { value: message.location } : unread
    case "list":
      return listIn(question, message, said, reading)
  }
}

/** An option's own id, where a button of the question was pressed. */
function chosen({ choice }: Message): string | undefined {
  return choice?.id
}

/** A number's options are shown as buttons that say it. */
function withoutChoice({ choice }: Message, said: string): string {
  return choice ? choice.id : said
}

function spansOf(type: SlotType, said: string, { languages, zone, now, country }: AnswerReading): Span[] {
  const reading = { languages, zone, now, types: new Set([type]), ...(country === undefined ? {} : { country }) }
  return readSpans(said, readWords(said), reading)
}

/** The readings of a type that no longer one covers. */
function widest(type: SlotType, said: string, reading: AnswerReading): Span[] {
  const spans = spansOf(type, said, reading).sort((a, b) => b.to - b.from - (a.to - a.from) || a.from - b.from)
  const kept: Span[] = []
  for (const span of spans) if (kept.every((other) => span.from >= other.to || span.to <= other.from)) kept.push(span)
  return kept
}

/** What is said once of a type, or several times with one meaning: two different days are no answer. */
function onlySpan(type: SlotType, said: string, reading: AnswerReading): AnswerRead {
  const values = new Set(widest(type, said, reading).map(({ value }) => value))
  return values.size === 1 ? { value: [...values][0]! } : unread
}

function numberIn(question: Question, said: string, reading: AnswerReading): AnswerRead {
  // "2.5 seats" is no whole number, though "2" and "5" are.
  const read = onlySpan("number", said, reading)
  if ("no" in read || (question.kind === "integer" && !Number.isInteger(read.value))) return unread
  return bounded(read.value as number, question.min, question.max)
}

function bounded<T extends number | string>(value: T, least: T | undefined, most: T | undefined): AnswerRead {
  if (least !== undefined && value < least) return { no: { reason: "too small", least } }
  if (most !== undefined && value > most) return { no: { reason: "too large", most } }
  return { value }
}

/** "today", "tomorrow" and "yesterday" as bounds are counted from when the answer was given. */
function dayBound(bound: string | undefined, { now, zone }: AnswerReading): string | undefined {
  const shift = bound === undefined ? undefined : { yesterday: -1, today: 0, tomorrow: 1 }[bound]
  if (shift === undefined) return bound
  return DateTime.fromISO(now, { zone }).plus({ days: shift }).toISODate() ?? bound
}

function dateIn(question: Question, said: string, reading: AnswerReading): AnswerRead {
  const days = new Set(widest("date", said, reading).map(({ value }) => String(value).slice(0, 10)))
  const day = days.size === 1 ? [...days][0]! : days.size === 0 ? dayOfMonth(said, reading) : undefined
  if (day === undefined) return unread
  return bounded(day, dayBound(question.from, reading), dayBound(question.to, reading))
}

/** "the 3rd", "am 3." or "3" alone: the next day of that number. */
function dayOfMonth(said: string, { now, zone }: AnswerReading): string | undefined {
  const found = /^\P{Nd}{0,12}?(\d{1,2})(st|nd|rd|th|er|\.|º|°)?\P{Nd}{0,12}$/u.exec(said.trim().normalize("NFKC"))
  const number = Number(found?.[1] ?? 0)
  if (number < 1 || number > 31) return undefined
  const today = DateTime.fromISO(now, { zone }).startOf("day")
  for (let month = 0; month < 4; month++) {
    const day = today.startOf("month").plus({ months: month }).set({ day: number })
    if (day.day === number && day >= today) return day.toISODate() ?? undefined
  }
  return undefined
}

function timeIn(question: Question, said: string, reading: AnswerReading): AnswerRead {
  const read = onlySpan("time", said, reading)
  if (!("no" in read)) return bounded(String(read.value), question.from, question.to)
  // "14" and "14.20", where a time was asked for.
  const bare = /^\D{0,12}?(\d{1,2})(?:[.h]\s?(\d{2}))?\D{0,8}$/.exec(said.trim().normalize("NFKC"))
  if (!bare || Number(bare[1]) > 23 || Number(bare[2] ?? 0) > 59) return unread
  return bounded(`${bare[1]!.padStart(2, "0")}:${bare[2] ?? "00"}`, question.from, question.to)
}

/** The option that a text means: its label, its number, its place among them, or its label among other words. */
function optionIn(said: string, options: Option[], reading: AnswerReading): string | undefined {
  if (said.trim() === "") return undefined
  const exact = optionMeant(said, options)
  if (exact) return exact.id
  const place = placeIn(said, options.length, reading)
  if (place !== undefined) return options[place]?.id
  const all = ` ${foldedWords(said)} `
  const within = options.filter(({ label }) => {
    const words = foldedOnce(label)
    return words !== "" && all.includes(` ${words} `)
  })
  if (within.length === 1) return within[0]!.id
  // "Holm" for "Holm Island", where no other option has the word.
  const part = options.filter(({ label }) => ` ${foldedOnce(label)} `.includes(all))
  return part.length === 1 && all.trim() !== "" ? part[0]!.id : undefined
}

/** "the second one", "the last", "number 2", as a place counted from 0. */
function placeIn(said: string, count: number, reading: AnswerReading): number | undefined {
  const folded = foldedWords(said)
  const words = folded.split(" ")
  if (words.length > 4) return undefined
  for (const { ordinals, last } of reading.languages.map((language) => wordsIn([language]))) {
    const at = ordinals.findIndex((forms) => forms.some((word) => words.includes(foldedOnce(word))))
    if (at !== -1) return at < count ? at : undefined
    if (last.some((word) => words.includes(foldedOnce(word)))) return count - 1
  }
  const numbers = new Set(widest("integer", said, reading).map(({ value }) => Number(value)))
  for (const word of words) {
    const ordinal = /^(\d{1,2})(st|nd|rd|th|er|e|o|a)$/.exec(word)
    if (ordinal) numbers.add(Number(ordinal[1]))
  }
  const [number] = numbers
  return numbers.size === 1 && number! >= 1 && number! <= count ? number! - 1 : undefined
}

function optionsIn(question: Question, message: Message, said: string, reading: AnswerReading): AnswerRead {
  const options = question.options ?? []
  const whole = foldedWords(said)
  const told = items(said, reading)
  if (told.length > mostItems) return unread
  const ids = message.choice
    ? (message.choice.ids ?? [message.choice.id])
    : (options.find(({ label }) => foldedOnce(label) === whole)?.id ??
      told.map((item) => optionIn(item, options, reading)))
  const all = [...new Set([ids].flat())]
  if (all.length === 0 || all.some((id) => id === undefined || !options.some((option) => option.id === id)))
    return unread
  return counted(
    options.map(({ id }) => id).filter((id) => all.includes(id)),
    question,
  )
}

function counted(value: string[], { min, max }: Question): AnswerRead {
  if (min !== undefined && value.length < min) return { no: { reason: "too few", least: min } }
  if (max !== undefined && value.length > max) return { no: { reason: "too many", most: max } }
  return { value }
}

/** What stands between commas, on lines or between "and"s. */
function items(said: string, { languages }: AnswerReading): string[] {
  const ands = [...new Set(languages.flatMap((language) => wordsIn([language]).and))].join("|")
  return said
    .split(new RegExp(`[,;\\n]|(?<=\\s)(?:${ands})(?=\\s)`, "iu"))
    .map((item) => item.trim().replace(/^[-•*]\s+/, ""))
    .filter((item) => item !== "")
}

function listIn(question: Question, message: Message, said: string, reading: AnswerReading): AnswerRead {
  if (message.event !== "text") return unread
  const all = items(said, reading)
  if (all.length === 0) return unread
  if (all.length > mostItems || all.some((item) => item.length > longestItem))
    return { no: { reason: "too many", most: Math.min(question.max ?? mostItems, mostItems) } }
  return counted(all, question)
}

/** Options of a yes-or-no question have these ids. */
export const yesId = "yes"
export const noId = "no"

function yesOrNo(message: Message, said: string, reading: AnswerReading): AnswerRead {
  const id = chosen(message)
  if (id !== undefined) return id === yesId ? { value: true } : id === noId ? { value: false } : unread
  if (/^\s*👍/u.test(said)) return { value: true }
  if (/^\s*👎/u.test(said)) return { value: false }
  const number = readNumber(said.trim())
  if (number === 1 || number === 2) return { value: number === 1 }
  // Whoever writes in another of the languages is understood too; the person's own comes first.
  const spoken = [...reading.languages, ...Object.keys(interviewWords)].map((language) => wordsIn([language]))
  for (const { yes, no } of spoken) {
    if (isOneOf(said, yes)) return { value: true }
    if (isOneOf(said, no)) return { value: false }
  }
  const words = foldedWords(said).split(" ")
  if (words.length > 8) return unread
  const { yes, no } = wordsIn(reading.languages)
  const begins = (list: string[]) => list.some((word) => ` ${words.join(" ")} `.startsWith(` ${foldedOnce(word)} `))
  const holds = (list: string[]) => list.some((word) => words.includes(foldedOnce(word)))
  if (begins(no)) return { value: false }
  return begins(yes) && !holds(no) ? { value: true } : unread
}
