import { findPhoneNumbersInText } from "libphonenumber-js/min"
import type { ParsedComponents } from "chrono-node"
import type { CountryCode } from "libphonenumber-js/min"
import { DateTime, IANAZone } from "luxon"
import type { ClockTime, Language } from "./languages.ts"
import { languages } from "./languages.ts"
import type { SlotType } from "./read.ts"
import type { Word } from "./words.ts"
import { digitsFolded, fold, readNumber, readWords } from "./words.ts"

/** Words that are one thing of a type: the first, the one behind the last, and what they mean. */
export interface Span {
  /** A type, or `$rule` for a word of a list. */
  type: SlotType | `$${string}`
  from: number
  to: number
  value: string | number
  misspelt?: Misspelling[]
}

/** A word as it was said, and as it was meant. */
export interface Misspelling {
  said: string
  meant: string
}

/** In whose words things are read, and by whose clock. */
export interface Reading {
  /** By the languages' codes, the first that reads more of the text counts. */
  languages: string[]
  /** IANA zone. */
  zone: string
  /** When it was said, ISO 8601. */
  now: string
  /** For telephone numbers without a country code. */
  country?: string
  /** The types any phrase asks for: nothing else is looked for. */
  types: ReadonlySet<SlotType>
}

/** Prepositions and articles before a date or time, at most. */
const leading = 2
/** Words in which anything is looked for. */
const mostWords = 300
/** Characters in which dates and telephone numbers are looked for. */
const looked = 2000

export function isZone(zone: string): boolean {
  return IANAZone.isValidZone(zone)
}

/** An ISO 8601 time as the instant it is, in a zone where it names none. */
export function instantIn(time: string, zone: string): string {
  return DateTime.fromISO(time, { zone }).toJSDate().toISOString()
}

/** Everything of the types wanted, read once: of each type, at each word the longest. What stands far behind is not looked at. */
export function readSpans(text: string, all: Word[], reading: Reading): Span[] {
  const words = all.slice(0, mostWords)
  const { types } = reading
  const spoken = reading.languages.flatMap((code) => languages[code] ?? [])
  const found: Span[] = []
  const wantsNumbers = types.has("number") || types.has("integer")
  if (wantsNumbers) found.push(...numbersIn(text, words, spoken))
  if (types.has("time") || types.has("date")) found.push(...timesIn(words, spoken, reading, text))
  if (types.has("email")) found.push(...emailsIn(text, words))
  if (types.has("phone")) found.push(...phonesIn(text, words, reading.country))
  return longest(found.filter((span) => types.has(span.type as SlotType)))
}

/** Of each type, of the readings that begin at one word the longest. */
function longest(spans: Span[]): Span[] {
  const best = new Map<string, Span>()
  for (const span of spans) {
    const key = `${span.type} ${span.from}`
    const before = best.get(key)
    if (!before || span.to > before.to) best.set(key, span)
  }
  return [...best.values()]
}

function numbersIn(text: string, words: Word[], spoken: Language[]): Span[] {
  return words.flatMap((word, from) => {
    const digits = readNumber(text.slice(word.start, word.end))
    const said = digits === undefined ? spelledAt(words, from, spoken) : { value: digits, to: from + 1 }
    if (!said) return []
    const span = { from, to: said.to, value: said.value }
    return [
      { type: "number" as const, ...span },
      ...(Number.isInteger(said.value) ? [{ type: "integer" as const, ...span }] : []),
    ]
  })
}

/** Numbers in words, by their folded words: what follows a word, and what the words so far mean. */
interface Spelling {
  value?: number
  next: Map<string, Spelling>
}

const spellings = new Map<Language, Spelling>()
/** Numbers up to this are read in words. */
const mostSpelled = 1000

function spellingOf(language: Language): Spelling {
  let tree = spellings.get(language)
  if (tree) return tree
  tree = { next: new Map() }
  const add = (said: string, value: number) => {
    let at = tree!
    for (const { folded } of readWords(said)) {
      let next = at.next.get(folded)
      if (!next) at.next.set(folded, (next = { next: new Map() }))
      at = next
    }
    at.value ??= value
  }
  for (let number = 0; number <= mostSpelled; number++) {
    const said = language.spelled(number)
    // "and", "et" and the like may be left out, and hyphens be spaces.
    add(said.replaceAll("-", " "), number)
    add(said.replaceAll("-", " ").replace(/ (and|und) /g, " "), number)
  }
  for (const [said, value] of Object.entries(language.numbers)) add(said, value)
  spellings.set(language, tree)
  return tree
}

function spelledAt(words: Word[], from: number, spoken: Language[]): { value: number; to: number } | undefined {
  let best: { value: number; to: number } | undefined
  for (const language of spoken) {
    let at: Spelling | undefined = spellingOf(language)
    for (let to = from; at && to < words.length;) {
      at = at.next.get(words[to]!.folded)
      to++
      if (at?.value !== undefined && (!best || to > best.to)) best = { value: at.value, to }
    }
  }
  return best
}

/** Dates, with their time where one is said, and times. A date is ISO 8601: `2026-12-04`, or `2026-12-04T14:20`. */
function timesIn(words: Word[], spoken: Language[], { zone, now }: Reading, whole: string): Span[] {
  const text = digitsFolded(whole.slice(0, looked))
  const here = DateTime.fromISO(now, { zone })
  if (!here.isValid) return []
  const found = spoken.flatMap((language) => clockTimes(words, language))
  if (text.length !== whole.slice(0, looked).length) return found
  const reference = { instant: here.toJSDate(), timezone: here.offset }
  for (const language of spoken) {
    for (const { index, text: said, start } of language.dates(text, reference, { forwardDate: true })) {
      const [from, to] = wordsBetween(words, index, index + said.length)
      const read = dateOrTime(said, start)
      if (from === undefined || read.length === 0) continue
      found.push(...read.map((one) => ({ ...one, from, to })))
      // The library takes a preposition in: "on friday", "at 14:20". What means the same without it is a reading too.
      for (let later = from + 1; later < Math.min(to, from + 1 + leading); later++) {
        const rest = text.slice(words[later]!.start, index + said.length)
        const [again] = language.dates(rest, reference, { forwardDate: true })
        if (again?.index !== 0 || again.text.length !== rest.length) continue
        const same = JSON.stringify(dateOrTime(again.text, again.start)) === JSON.stringify(read)
        if (same) found.push(...read.map((one) => ({ ...one, from: later, to })))
      }
    }
  }
  return [...found, ...dayWithTime(found, words, spoken)]
}

/** What a stretch of text that was taken for a date means; for a bare number such as "2" nothing. */
function dateOrTime(said: string, start: ParsedComponents): { type: "date" | "time"; value: string }[] {
  const part = (name: "year" | "month" | "day" | "hour" | "minute") => start.get(name) ?? 0
  const date = `${String(part("year")).padStart(4, "0")}-${two(part("month"))}-${two(part("day"))}`
  const time = `${two(part("hour"))}:${two(part("minute"))}`
  const timed = start.isCertain("hour")
  const times = timed ? [{ type: "time" as const, value: time }] : []
  if (/^\d{1,2}$/.test(said.trim())) return times
  const day = (["year", "month", "weekday", "day"] as const).some((name) => start.isCertain(name))
  return day || timed ? [...times, { type: "date", value: timed ? `${date}T${time}` : date }] : times
}

function two(number: number): string {
  return String(number).padStart(2, "0")
}

/** A day and a time in words beside each other, such as "friday at half past two" and "noon on friday". */
function dayWithTime(found: Span[], words: Word[], spoken: Language[]): Span[] {
  const joins = new Set(spoken.flatMap((language) => language.joins))
  const meet = (first: Span, second: Span) =>
    second.from >= first.to &&
    second.from <= first.to + leading &&
    words.slice(first.to, second.from).every(({ folded }) => joins.has(folded))
  const times = found.filter((span) => span.type === "time")
  return found
    .filter((span) => span.type === "date" && !String(span.value).includes("T"))
    .flatMap((day) =>
      times
        .filter((time) => meet(day, time) || meet(time, day))
        .map((time): Span => {
          const [from, to] = [Math.min(day.from, time.from), Math.max(day.to, time.to)]
          return { type: "date", from, to, value: `${day.value}T${time.value}` }
        }),
    )
}

/** The words that stand wholly within a stretch of the text. */
function wordsBetween(words: Word[], start: number, end: number): [from: number | undefined, to: number] {
  let from: number | undefined
  let to = 0
  words.forEach((word, at) => {
    if (word.end <= start || word.start >= end) return
    from ??= at
    to = at + 1
  })
  return [from, to]
}

interface ClockPattern {
  pieces: string[]
  time: ClockTime
}

const patterns = new Map<Language, ClockPattern[]>()

function patternsOf(language: Language): ClockPattern[] {
  let made = patterns.get(language)
  if (!made) {
    made = language.clock.map(({ says, time }) => ({
      pieces: says.split(" ").map((piece) => (piece.startsWith("{") ? piece : fold(piece))),
      time,
    }))
    patterns.set(language, made)
  }
  return made
}

/** Times in words, such as "half past two". */
function clockTimes(words: Word[], language: Language): Span[] {
  const found: Span[] = []
  words.forEach((_word, from) => {
    for (const { pieces, time } of patternsOf(language)) {
      const read = clockAt(words, from, pieces, language)
      if (!read) continue
      const value = clockValue(time, read)
      if (value !== undefined) found.push({ type: "time", from, to: read.to, value })
    }
  })
  return found
}

function clockAt(
  words: Word[],
  from: number,
  pieces: string[],
  language: Language,
): { to: number; hour?: number; minutes?: number } | undefined {
  const read: { to: number; hour?: number; minutes?: number } = { to: from }
  for (const piece of pieces) {
    const word = words[read.to]
    if (!word) return undefined
    if (!piece.startsWith("{")) {
      if (word.folded !== piece) return undefined
      read.to++
      continue
    }
    const digits = /^\d{1,2}$/.test(word.folded) ? { value: Number(word.folded), to: read.to + 1 } : undefined
    const number = digits ?? spelledAt(words, read.to, [language])
    if (!number || !Number.isInteger(number.value)) return undefined
    if (piece === "{h}") read.hour = number.value
    else read.minutes = number.value
    read.to = number.to
  }
  return read
}

function clockValue(time: ClockTime, { hour, minutes }: { hour?: number; minutes?: number }): string | undefined {
  if ("at" in time) return time.at
  if (hour === undefined || hour > 24) return undefined
  const added = time.minutes === "said" ? minutes : time.minutes === "said before" ? -(minutes ?? 0) : time.minutes
  if (added === undefined || Math.abs(added) > 59) return undefined
  const all = (((hour * 60 + added) % 1440) + 1440) % 1440
  return `${two(Math.floor(all / 60))}:${two(all % 60)}`
}

function emailsIn(text: string, words: Word[]): Span[] {
  return [...text.slice(0, 20_000).matchAll(/[\w.+%-]{1,64}@[A-Za-z0-9-]{1,63}(?:\.[A-Za-z0-9-]{1,63}){1,8}/g)].flatMap(
    (match) => {
      const [from, to] = wordsBetween(words, match.index, match.index + match[0].length)
      return from === undefined ? [] : [{ type: "email" as const, from, to, value: match[0] }]
    },
  )
}

function phonesIn(whole: string, words: Word[], country: string | undefined): Span[] {
  const text = digitsFolded(whole.slice(0, looked))
  // A number that can be is taken, though none may be given out: that is for the handler to find out.
  const found = findPhoneNumbersInText(text, {
    extended: true,
    ...(country === undefined ? {} : { defaultCountry: country as CountryCode }),
  })
  return found.flatMap(({ startsAt, endsAt, number }) => {
    const [from, to] = wordsBetween(words, startsAt, endsAt)
    return from === undefined ? [] : [{ type: "phone" as const, from, to, value: number.number }]
  })
}
