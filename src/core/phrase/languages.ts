import { de, en, es, fr, pt } from "chrono-node"
import { toCardinal as germanWords } from "n2words/de-DE"
import { toCardinal as englishWords } from "n2words/en-GB"
import { toCardinal as spanishWords } from "n2words/es-ES"
import { toCardinal as frenchWords } from "n2words/fr-FR"
import { toCardinal as portugueseWords } from "n2words/pt-PT"
import type { ParsedResult, ParsingOption, ParsingReference } from "chrono-node"

/** How dates, times and numbers are written in one language. Another language is another of these. */
export interface Language {
  dates: (text: string, reference: ParsingReference, option: ParsingOption) => ParsedResult[]
  /** A number's words. */
  spelled: (number: number) => string
  /** Further words for numbers, as people write them. */
  numbers: { [word: string]: number }
  /** Words between a day and a time, folded. */
  joins: string[]
  /** Times in words: patterns over folded text, with `{h}` for an hour of the clock and `{m}` for minutes. */
  clock: { says: string; time: ClockTime }[]
}

/** Minutes after the hour (before it where negative), or a time of day. */
export type ClockTime = { minutes: number } | { minutes: "said" | "said before" } | { at: string }

export const languages: { [code: string]: Language } = {
  en: {
    dates: (...given) => en.GB.parse(...given),
    spelled: englishWords,
    numbers: { dozen: 12, "a dozen": 12, "a couple": 2, "a couple of": 2 },
    joins: ["at", "on"],
    clock: [
      { says: "half past {h}", time: { minutes: 30 } },
      { says: "half {h}", time: { minutes: 30 } },
      { says: "quarter past {h}", time: { minutes: 15 } },
      { says: "a quarter past {h}", time: { minutes: 15 } },
      { says: "quarter to {h}", time: { minutes: -15 } },
      { says: "a quarter to {h}", time: { minutes: -15 } },
      { says: "{m} past {h}", time: { minutes: "said" } },
      { says: "{m} minutes past {h}", time: { minutes: "said" } },
      { says: "{m} to {h}", time: { minutes: "said before" } },
      { says: "{h} o clock", time: { minutes: 0 } },
      { says: "{h} oclock", time: { minutes: 0 } },
      { says: "noon", time: { at: "12:00" } },
      { says: "midday", time: { at: "12:00" } },
      { says: "midnight", time: { at: "00:00" } },
    ],
  },
  de: {
    dates: (...given) => de.parse(...given),
    spelled: germanWords,
    numbers: { ein: 1, eine: 1, einen: 1, einer: 1, zwo: 2, dutzend: 12, "ein dutzend": 12 },
    joins: ["um", "am"],
    clock: [
      { says: "halb {h}", time: { minutes: -30 } },
      { says: "viertel nach {h}", time: { minutes: 15 } },
      { says: "viertel vor {h}", time: { minutes: -15 } },
      { says: "dreiviertel {h}", time: { minutes: -15 } },
      { says: "{m} nach {h}", time: { minutes: "said" } },
      { says: "{m} vor {h}", time: { minutes: "said before" } },
      { says: "{h} uhr", time: { minutes: 0 } },
      { says: "{h} uhr {m}", time: { minutes: "said" } },
      { says: "mittag", time: { at: "12:00" } },
      { says: "mitternacht", time: { at: "00:00" } },
    ],
  },
  fr: {
    dates: (...given) => fr.parse(...given),
    spelled: frenchWords,
    numbers: { une: 1, douzaine: 12, "une douzaine": 12 },
    joins: ["a", "le"],
    clock: [
      { says: "{h} heures et demie", time: { minutes: 30 } },
      { says: "{h} heures et quart", time: { minutes: 15 } },
      { says: "{h} heures moins le quart", time: { minutes: -15 } },
      { says: "{h} heures", time: { minutes: 0 } },
      { says: "{h} heure", time: { minutes: 0 } },
      { says: "{h} heures {m}", time: { minutes: "said" } },
      { says: "midi", time: { at: "12:00" } },
      { says: "minuit", time: { at: "00:00" } },
    ],
  },
  es: {
    dates: (...given) => es.parse(...given),
    spelled: spanishWords,
    numbers: { un: 1, una: 1, docena: 12, "una docena": 12 },
    joins: ["a", "la", "las", "el"],
    clock: [
      { says: "las {h} y media", time: { minutes: 30 } },
      { says: "las {h} y cuarto", time: { minutes: 15 } },
      { says: "las {h} menos cuarto", time: { minutes: -15 } },
      { says: "las {h} y {m}", time: { minutes: "said" } },
      { says: "las {h}", time: { minutes: 0 } },
      { says: "la {h}", time: { minutes: 0 } },
      { says: "mediodia", time: { at: "12:00" } },
      { says: "medianoche", time: { at: "00:00" } },
    ],
  },
  pt: {
    dates: (...given) => pt.parse(...given),
    spelled: portugueseWords,
    numbers: { um: 1, uma: 1, duas: 2, duzia: 12, "uma duzia": 12 },
    joins: ["a", "as", "na", "no"],
    clock: [
      { says: "{h} e meia", time: { minutes: 30 } },
      { says: "{h} e um quarto", time: { minutes: 15 } },
      { says: "um quarto para as {h}", time: { minutes: -15 } },
      { says: "{h} horas", time: { minutes: 0 } },
      { says: "as {h}", time: { minutes: 0 } },
      { says: "meio dia", time: { at: "12:00" } },
      { says: "meia noite", time: { at: "00:00" } },
    ],
  },
}
