import type { Message } from "../message/message.ts"
import type { AnswerKind } from "./question.ts"

/** One thing that an interview has behind it. Entries are only appended; `n` counts from 1 without a gap. */
export type Entry = { n: number; at: string } & Done

/** What was done. Values are what the handler was given, as JSON. */
export type Done =
  /** @property turn what it was given, and the release it began with */
  | { did: "began"; turn: object }
  | { did: "answered"; kind: AnswerKind; asked: string; value?: unknown; ids?: string[] }
  | { did: "told"; said: string }
  /** @property key what the callback was given; a throw the handler caught is on record as a throw */
  | {
      did: "once"
      name: string
      key: string
      value?: unknown
      threw?: { name: string; message: string }
      back?: "again"
    }
  | { did: "paused"; until: string }
  | { did: "expected"; message?: Message }
  | { did: "remembered"; where: "state" | "contact" }
  /** The person went back: everything from the entry of that number on counts no more. */
  | { did: "went back"; to: number }

/** What counts of a journal, and what side effects gave before the person went back behind them. */
export interface StandingJournal {
  entries: Entry[]
  /** By name and occurrence. */
  before: Map<string, unknown>
  /** How often the person went back behind each, by name and occurrence. */
  rounds: Map<string, number>
}

/** Entries an interview may have, and bytes of them as JSON. */
export const mostEntries = 500
export const mostBytes = 256 * 1024

/** The journal without what the person went back over. */
export function standing(all: Entry[]): StandingJournal {
  let entries: Entry[] = []
  const before = new Map<string, unknown>()
  const rounds = new Map<string, number>()
  for (const entry of all) {
    if (entry.did !== "went back") {
      entries.push(entry)
      continue
    }
    const undone = entries.filter(({ n }) => n >= entry.to)
    entries = entries.filter(({ n }) => n < entry.to)
    const times = new Map<string, number>()
    for (const kept of entries) if (kept.did === "once") times.set(kept.name, (times.get(kept.name) ?? 0) + 1)
    for (const gone of undone) {
      if (gone.did !== "once") continue
      const nth = (times.get(gone.name) ?? 0) + 1
      times.set(gone.name, nth)
      before.set(onceName(gone.name, nth), gone.value)
      rounds.set(onceName(gone.name, nth), (rounds.get(onceName(gone.name, nth)) ?? 0) + 1)
    }
  }
  return { entries, before, rounds }
}

/** How a side effect is told from others of its name: by which of them it is, counted from 1. */
export function onceName(name: string, nth: number): string {
  return `${name} ${nth}`
}

/**
 * To which entry "back" leads: the last answer, unless a side effect stands behind it that its author did not declare
 * to be repeatable. Undefined where there is no question to go back to.
 */
export function backTo(entries: Entry[]): number | undefined {
  const last = entries.findLastIndex(({ did }) => did === "answered")
  if (last === -1) return undefined
  const barred = entries.slice(last).some((entry) => entry.did === "once" && entry.back !== "again")
  return barred ? undefined : entries[last]!.n
}

/** A journal and a handler that do not fit each other any more. */
export interface Difference {
  /** The entry at which they part. */
  n: number
  /** What the journal holds there, and what the handler does, in words. */
  was: string
  is: string
}

/** What a handler does next, as far as a journal can be compared with it. */
export type NextStep =
  | { step: "ask"; kind: AnswerKind; ids?: string[] }
  | { step: "tell" | "pause" | "expect" | "remember" }
  | { step: "once"; name: string }
  | { step: "end" }

/** Whether what a handler does next is what the journal says was done; texts may have changed meanwhile. */
export function fits(entry: Entry, next: NextStep): boolean {
  switch (entry.did) {
    case "answered": {
      if (next.step !== "ask" || next.kind !== entry.kind) return false
      // An option that was chosen and is there no more is another question.
      const chosen = entry.ids ?? []
      return next.ids === undefined || chosen.every((id) => next.ids!.includes(id))
    }
    case "told":
      return next.step === "tell"
    case "once":
      return next.step === "once" && next.name === entry.name
    case "paused":
      return next.step === "pause"
    case "expected":
      return next.step === "expect"
    case "remembered":
      return next.step === "remember"
    case "began":
    case "went back":
      return false
  }
}

/** What an entry says was done, for people. */
export function entryWords(entry: Entry): string {
  switch (entry.did) {
    case "answered":
      return `the answer to a question for ${kindWords(entry.kind)}${entry.ids ? ` (${entry.ids.join(", ")})` : ""}`
    case "told":
      return `something told`
    case "once":
      return `the side effect "${entry.name}"`
    case "paused":
      return "a pause"
    case "expected":
      return "something expected"
    case "remembered":
      return "something remembered"
    case "began":
      return "its beginning"
    case "went back":
      return "a step back"
  }
}

export function stepWords(next: NextStep): string {
  switch (next.step) {
    case "ask":
      return `asks for ${kindWords(next.kind)}${next.ids ? ` (${next.ids.slice(0, 6).join(", ")})` : ""}`
    case "once":
      return `runs the side effect "${next.name}"`
    case "tell":
      return "tells something"
    case "pause":
      return "pauses"
    case "expect":
      return "expects something"
    case "remember":
      return "remembers something"
    case "end":
      return "ends"
  }
}

function kindWords(kind: AnswerKind): string {
  return { yesNo: "yes or no", choice: "one option", choices: "options", text: "text" }[kind as string] ?? `a ${kind}`
}
