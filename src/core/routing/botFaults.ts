import { nearest } from "../gateway/nearest.ts"
import { readPhrase } from "../phrase/read.ts"
import type { RuleBook } from "../phrase/rules.ts"
import { slotsOf } from "../phrase/rules.ts"
import type { Condition } from "./condition.ts"
import { everyCondition } from "./condition.ts"
import { faultsOfPlaces, textsNamed } from "./fillText.ts"
import { CalendarError } from "./holidays.ts"
import { HoursError, OpeningHours } from "./hours.ts"
import { list } from "./parts.ts"
import { Pattern } from "./pattern.ts"
import type { Texts, Written } from "./texts.ts"
import { textsIn } from "./texts.ts"
import { unroutedCases } from "./unrouted.ts"
import type { Bot, HandlersKnown } from "./bot.ts"
import type { HandlerName } from "./handlerName.ts"

/** Tells a fault, by the path to what is wrong. */
export type Say = (path: (string | number)[], says: string, remedy?: string) => void

export interface NamedHandler {
  handler: HandlerName
  path: (string | number)[]
  /** The route's condition; nothing for the unrouted. */
  when?: Condition
}

/** Every handler a bot names, and where. */
export function handlersNamed(bot: Bot): NamedHandler[] {
  const ofRoutes = bot.routes.map(({ handler, when }, at) => ({ handler, when, path: ["routes", at, "handler"] }))
  const one = !Array.isArray(bot.unrouted)
  const ofUnrouted = unroutedCases(bot.unrouted).map(({ handler }, at) => ({
    handler,
    path: one ? ["unrouted"] : ["unrouted", at, "handler"],
  }))
  return [...ofRoutes, ...ofUnrouted]
}

/** Puts the calendars to the hours that name them, and tells what is wrong with the hours and with those who name them. */
export function hoursFaults(bot: Bot, files: { [file: string]: string }, say: Say): void {
  for (const [name, hours] of Object.entries(bot.hours ?? {})) {
    const named = (hours.closed ?? []).filter((entry) => Object.hasOwn(files, entry))
    if (named.length > 0) hours.calendars = Object.fromEntries(named.map((file) => [file, files[file]!]))
    try {
      new OpeningHours(hours, bot.zone)
    } catch (error) {
      if (error instanceof HoursError) say(["hours", name, ...error.path.map(asIndex)], error.message)
      else if (error instanceof CalendarError) say(["hours", name, "closed"], `${named.join(", ")}: ${error.message}`)
      else throw error
    }
  }
  const known = Object.keys(bot.hours ?? {})
  const sayHours = (path: (string | number)[], name: string) => {
    if (known.includes(name)) return
    const near = nearest(name, known)
    const there = known.length > 0 ? `There are: ${known.join(", ")}.` : 'Write them under "hours:".'
    say(path, `there are no hours "${name}"`, near ? `Write ${near}.` : there)
  }
  bot.quiet?.forEach((name) => sayHours(["quiet"], name))
  bot.notices?.forEach(({ quiet = [] }, at) => quiet.forEach((name) => sayHours(["notices", at, "quiet"], name)))
  bot.routes.forEach(({ when }, at) => {
    for (const [condition, path] of everyCondition(when, ["routes", at, "when"]))
      for (const key of ["during", "outside"] as const)
        for (const name of list(condition[key])) sayHours([...path, key], name)
  })
}

function asIndex(key: string): string | number {
  return /^\d+$/.test(key) ? Number(key) : key
}

/** What is wrong with the places of texts, wherever one stands. */
export function textFaults(bot: Bot, named: NamedHandler[], book: RuleBook, say: Say): void {
  const texts = bot.texts ?? {}
  const hours = Object.keys(bot.hours ?? {})
  const check = (written: Written, path: (string | number)[], slots: readonly string[] | "any") => {
    for (const [inside, text] of textsIn(written))
      for (const { says, remedy } of faultsOfPlaces(text, { slots, hours, texts }))
        say([...path, ...inside], says, remedy)
  }
  for (const [name, written] of Object.entries(texts)) {
    // Which route brings a text in, and so which slots are filled, differs.
    check(written, ["texts", name], "any")
    if (leadsBack(name, texts)) say(["texts", name], `the text ${name} leads back to itself`)
  }
  bot.notices?.forEach(({ text, many, choices, people = {} }, at) => {
    const also = noticeRoots(Object.keys(people))
    const checkNotice = (written: Written, path: (string | number)[]) => {
      for (const [inside, source] of textsIn(written))
        for (const { says, remedy } of faultsOfPlaces(source, { slots: [], hours, texts, also }))
          say(["notices", at, ...path, ...inside], says, remedy)
    }
    checkNotice(text, ["text"])
    if (many !== undefined) checkNotice(many, ["many"])
    choices?.forEach(({ label }, n) => checkNotice(label, ["choices", n, "label"]))
  })
  for (const { handler, path, when } of named) {
    if (typeof handler !== "object") continue
    const slots = when ? slotsIn(when, book) : []
    const { choices } = handler as { choices?: { label: Written }[] }
    for (const name of ["text", "fallback", "meanwhile", "over"])
      if (handler[name] !== undefined) check(handler[name] as Written, [...path, name], slots)
    choices?.forEach(({ label }, at) => check(label, [...path, "choices", at, "label"], slots))
  }
}

/** What a notice's text may name besides what every text may. */
function noticeRoots(people: string[]): { [root: string]: readonly string[] | "anything" } {
  return { event: "anything", to: ["name", "mention", "fields"], notice: ["count", "type", "at"], people }
}

/** Settings of a route that only code obeys, where its handler asks elsewhere and has a time of its own. */
export function deadlineFaults(bot: Bot, kinds: HandlersKnown["kinds"], say: Say): void {
  bot.routes.forEach(({ handler, deadline, tries }, at) => {
    if (typeof handler !== "object") return
    const kind = Object.keys(kinds).find((name) => Object.hasOwn(handler, name))
    const keys = Object.keys((kinds[kind ?? ""]?.describe() as { keys?: object } | undefined)?.keys ?? {})
    if (!keys.includes("within")) return
    for (const [name, value] of Object.entries({ deadline, tries }))
      if (value !== undefined)
        say(
          ["routes", at, name],
          `${name} is for code, and this handler asks elsewhere`,
          "Write within in the handler.",
        )
  })
}

function leadsBack(name: string, texts: Texts): boolean {
  const open = [name]
  const seen = new Set<string>()
  for (let next = open.pop(); next !== undefined; next = open.pop())
    for (const [, text] of textsIn(texts[next] ?? []))
      for (const other of textsNamed(text)) {
        if (other === name) return true
        if (!seen.has(other)) open.push(other)
        seen.add(other)
      }
  return false
}

/** The slots that may be filled where a condition is met. */
export function slotsIn(met: Condition, book: RuleBook): string[] {
  const phrases = [met.phrase ?? []].flat().flatMap((source) => slotsOf(book.resolved(readPhrase(source))))
  const groups = list(met.pattern).flatMap((source) => new Pattern(source).slots)
  const args = met.command === undefined ? [] : ["args"]
  const within = [...(met.any ?? []), ...(met.all ?? [])].flatMap((one) => slotsIn(one, book))
  return [...new Set([...phrases, ...groups, ...args, ...within])]
}
