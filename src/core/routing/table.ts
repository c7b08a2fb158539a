import { isDeepStrictEqual } from "node:util"
import type { Message } from "../message/message.ts"
import { spokenEvents } from "../message/message.ts"
import type { PhraseRun } from "../phrase/automaton.ts"
import { PhraseAutomaton } from "../phrase/automaton.ts"
import type { SaidWords } from "../phrase/automaton.ts"
import { readPhrase } from "../phrase/read.ts"
import { RuleBook } from "../phrase/rules.ts"
import { readSpans } from "../phrase/spans.ts"
import { readWords } from "../phrase/words.ts"
import { modernBot } from "./rewrite.ts"
import type { Bot, Condition, HandlerName, Route } from "./bot.ts"

/** What a decision looks at besides the message. */
export interface Situation {
  message: Message
  /** The single messages, where several were gathered: a phrase may fit one of them. */
  messages?: Message[]
  channel: { key: string; kind: string }
  state: { [field: string]: unknown }
  /** ISO 8601: the time that "tomorrow" is counted from, where the message has none of its own. */
  now: string
}

export type Slots = { [name: string]: string | number }

export type Decision =
  | { took: "route"; route: string; handler: HandlerName; slots: Slots }
  | { took: "unrouted"; handler: HandlerName | undefined }
  /** Something nobody said, such as an edit, that no route names. */
  | { took: "passed over" }

/** Why one route did or did not take a message. */
export interface RouteExplanation {
  route: string
  met: boolean
  /** In words: what met it, or which condition failed. */
  why: string
  slots?: Slots
}

/**
 * A bot's routes, ready to decide. All phrases are one automaton, and a route is only looked at when one of its
 * triggers (a phrase that matched, the command, the choice) is there, so that a decision does not get slower with
 * the number of routes. Of the routes that are met, the first in the file wins.
 */
export class RouteTable {
  private readonly phrases = new Map<string, number>()
  private readonly automaton: PhraseAutomaton
  private readonly byTrigger = new Map<string, number[]>()
  private readonly always: number[] = []

  readonly bot: Bot

  constructor(given: Bot) {
    const bot = (this.bot = modernBot(given))
    bot.routes.forEach((route) => this.collectPhrases(route.when))
    const rules = new RuleBook(bot.rules)
    this.automaton = new PhraseAutomaton([...this.phrases.keys()].map((source) => rules.resolved(readPhrase(source))))
    bot.routes.forEach((route, at) => {
      const triggers = this.triggersOf(route.when)
      if (triggers === undefined) this.always.push(at)
      for (const trigger of triggers ?? []) this.byTrigger.set(trigger, [...(this.byTrigger.get(trigger) ?? []), at])
    })
  }

  decide(situation: Situation): Decision {
    const look = this.look(situation)
    for (const at of this.candidates(look)) {
      const route = this.bot.routes[at]!
      const finding = this.finding(route, look)
      if (finding.met) return { took: "route", route: route.name, handler: route.handler, slots: finding.slots }
    }
    if (!spokenEvents.has(situation.message.event)) return { took: "passed over" }
    return { took: "unrouted", handler: this.bot.unrouted }
  }

  /** Every route in file order, with the reason. */
  explain(situation: Situation): RouteExplanation[] {
    const look = this.look(situation)
    return this.bot.routes.map((route) => {
      const finding = this.finding(route, look)
      const slots = finding.met && Object.keys(finding.slots).length > 0 ? { slots: finding.slots } : {}
      return { route: route.name, met: finding.met, why: finding.why, ...slots }
    })
  }

  private look(situation: Situation): Look {
    const { message, messages = [] } = situation
    const said = messages.length > 1 ? [message, ...messages] : [message]
    const wordings = said
      .filter((one) => wordsEvents.has(one.event) && one.text !== undefined)
      .map(({ text = "", sentAt }): Wording => {
        const said = this.read(text, sentAt ?? situation.now)
        return { ...said, matching: this.automaton.matching(said) }
      })
    const { messages: all, channel, state, now } = situation
    return { message, messages: all, channel, state, now, wordings }
  }

  private read(text: string, now: string): SaidWords {
    const words = readWords(text)
    const { types } = this.automaton
    if (types.size === 0) return { text, words, spans: [] }
    const { language, zone, country } = this.bot
    const reading = { languages: language, zone, now, types, ...(country === undefined ? {} : { country }) }
    return { text, words, spans: readSpans(text, words, reading) }
  }

  private candidates(look: Look): number[] {
    const found = new Set(this.always)
    const add = (trigger: string) => this.byTrigger.get(trigger)?.forEach((at) => found.add(at))
    for (const { matching } of look.wordings) for (const phrase of matching) add(`phrase ${phrase}`)
    if (look.message.command) add(`command ${look.message.command.name}`)
    for (const id of choiceIds(look.message)) add(`choice ${id}`)
    return [...found].sort((a, b) => a - b)
  }

  /** Edits, reactions and the like run only a route that names their event. */
  private finding(route: Route, look: Look): Finding {
    const { event } = look.message
    if (!spokenEvents.has(event) && !namesEvent(route.when, event)) {
      return missed(`nobody said this (event ${event}); a route takes it only with "event: ${event}"`)
    }
    return this.check(route.when, look)
  }

  private check(condition: Condition, look: Look): Finding {
    const findings: Finding[] = []
    for (const [name, wanted] of Object.entries(condition)) {
      const finding = this.checkOne(name as keyof Condition, wanted, look)
      if (!finding.met) return finding
      findings.push(finding)
    }
    return { met: true, why: findings.map((finding) => finding.why).join(", "), slots: mergeSlots(findings) }
  }

  private checkOne(name: keyof Condition, wanted: unknown, look: Look): Finding {
    const { message, channel, state } = look
    switch (name) {
      case "phrase":
        return this.checkPhrases(list(wanted), look)
      case "command": {
        const names = list(wanted).map((one) => one.toLowerCase())
        const said = message.command?.name
        if (said === undefined) return missed(`no command was given (wants /${names.join(" or /")})`)
        if (!names.includes(said)) return missed(`the command is /${said}, not /${names.join(" or /")}`)
        return met(`the command /${said}`, message.command?.args ? { args: message.command.args } : {})
      }
      case "choice": {
        const ids = choiceIds(message)
        if (ids.length === 0) return missed(`nothing was chosen (wants ${list(wanted).join(" or ")})`)
        const hit = ids.find((id) => list(wanted).some((one) => fitsChoice(one, id)))
        return hit === undefined
          ? missed(`the choice is "${ids.join(", ")}", not "${list(wanted).join('" or "')}"`)
          : met(`the choice "${hit}"`)
      }
      case "event":
        return oneOf("event", message.event, list(wanted))
      case "media": {
        const kinds = (message.media ?? []).map((one) => one.kind as string)
        if (kinds.length === 0) return missed(`nothing is attached (wants ${list(wanted).join(" or ")})`)
        if (list(wanted).includes("any")) return met(`media ${kinds[0]}`)
        const hit = kinds.find((kind) => list(wanted).includes(kind))
        return hit
          ? met(`media ${hit}`)
          : missed(`what is attached is ${kinds.join(", ")}, not ${list(wanted).join(" or ")}`)
      }
      case "channel":
        return oneOf("channel", channel.key, list(wanted))
      case "kind":
        return oneOf("kind", channel.kind, list(wanted))
      case "place":
        return oneOf("place", message.place.kind, list(wanted))
      case "language": {
        const spoken = message.from?.language ?? ""
        const hit = list(wanted).some((one) => spoken === one || spoken.startsWith(`${one}-`))
        return hit
          ? met(`language ${spoken}`)
          : missed(`the person's language is ${spoken || "not known"}, not ${list(wanted).join(" or ")}`)
      }
      case "mentioned": {
        const is = message.mentionsBot === true
        return is === wanted
          ? met(is ? "the bot is mentioned" : "the bot is not mentioned")
          : missed(is ? "the bot is mentioned" : "the bot is not mentioned")
      }
      case "state":
        return values("state", state, wanted as { [field: string]: unknown })
      case "fields": {
        // On a command line and in YAML a number is a number; a gateway's field is text.
        const asText = (value: unknown): unknown => (Array.isArray(value) ? value.map(asText) : String(value))
        const texts = Object.entries(wanted as { [field: string]: unknown }).map(([name, value]) => [
          name,
          asText(value),
        ])
        return values("fields", message.fields ?? {}, Object.fromEntries(texts) as { [field: string]: unknown })
      }
      case "any": {
        const findings = (wanted as Condition[]).map((one) => this.check(one, look))
        return findings.find((finding) => finding.met) ?? missed(findings.map((finding) => finding.why).join("; and "))
      }
      case "all": {
        const findings = (wanted as Condition[]).map((one) => this.check(one, look))
        const miss = findings.find((finding) => !finding.met)
        return miss ?? met(findings.map((finding) => finding.why).join(", "), mergeSlots(findings))
      }
      case "not": {
        const inner = this.check(wanted as Condition, look)
        return inner.met ? missed(`it must not be: ${inner.why}`) : met(`not met: ${inner.why}`)
      }
    }
  }

  /** The whole text comes first; where it fits no phrase, one of several messages may. */
  private checkPhrases(phrases: string[], look: Look): Finding {
    for (const wording of look.wordings) {
      for (const phrase of phrases) {
        const at = this.phrases.get(phrase)!
        if (!wording.matching.has(at)) continue
        const run = this.automaton.run(at, wording)
        if (!run.matches) continue
        const read = run.misspelt.map(({ said, meant }) => `"${said}" is read as "${meant}"`).join(", ")
        return met(`the phrase "${phrase}"${read ? ` (${read})` : ""}`, run.slots)
      }
    }
    const [whole] = look.wordings
    if (whole === undefined || whole.words.length === 0) return missed("there are no words to compare with the phrase")
    // Of several phrases, the one that came furthest says most.
    let best: { phrase: string; run: PhraseRun & { matches: false } } | undefined
    for (const phrase of phrases) {
      const run = this.automaton.run(this.phrases.get(phrase)!, whole)
      if (!run.matches && (best === undefined || run.stoppedAt > best.run.stoppedAt)) best = { phrase, run }
    }
    return missed(best ? whereLeft(best.phrase, best.run, whole) : "no phrase matches")
  }

  private collectPhrases(condition: Condition): void {
    for (const phrase of list(condition.phrase)) {
      if (!this.phrases.has(phrase)) this.phrases.set(phrase, this.phrases.size)
    }
    for (const inner of [
      ...(condition.any ?? []),
      ...(condition.all ?? []),
      ...(condition.not ? [condition.not] : []),
    ]) {
      this.collectPhrases(inner)
    }
  }

  /** Of which things at least one must be there for the condition to be met; nothing when there are none such. */
  private triggersOf(condition: Condition): string[] | undefined {
    const options: string[][] = []
    if (condition.phrase) options.push(list(condition.phrase).map((phrase) => `phrase ${this.phrases.get(phrase)}`))
    if (condition.command) options.push(list(condition.command).map((name) => `command ${name.toLowerCase()}`))
    if (condition.choice && !list(condition.choice).some((id) => id.endsWith("*"))) {
      options.push(list(condition.choice).map((id) => `choice ${id}`))
    }
    for (const inner of condition.all ?? []) {
      const triggers = this.triggersOf(inner)
      if (triggers) options.push(triggers)
    }
    if (condition.any) {
      const each = condition.any.map((inner) => this.triggersOf(inner))
      if (each.every((triggers) => triggers !== undefined)) options.push(each.flat())
    }
    return options.sort((a, b) => a.length - b.length)[0]
  }
}

type Finding = { met: boolean; why: string; slots: Slots }

interface Look extends Situation {
  wordings: Wording[]
}

interface Wording extends SaidWords {
  matching: ReadonlySet<number>
}

/** Events whose text a phrase is compared with. A command is no phrase, even where its name is a word of one. */
const wordsEvents: ReadonlySet<string> = new Set(["text", "media", "edited", "deleted"])

function met(why: string, slots: Slots = {}): Finding {
  return { met: true, why, slots }
}

function missed(why: string): Finding {
  return { met: false, why, slots: {} }
}

/** Whether each of the values is there, under its name. */
function values(of: string, there: { [field: string]: unknown }, wanted: { [field: string]: unknown }): Finding {
  const fields = Object.entries(wanted)
  const at = (field: string) => (Object.hasOwn(there, field) ? there[field] : undefined)
  const wrong = fields.find(([field, value]) => !fitsState(at(field), value))
  if (!wrong) return met(`${of} ${fields.map(([field]) => field).join(", ")}`)
  const found = at(wrong[0])
  return missed(
    `${of}.${wrong[0]} is ${found === undefined ? "not set" : JSON.stringify(found)}, not ${JSON.stringify(wrong[1])}`,
  )
}

function oneOf(name: string, is: string, wanted: string[]): Finding {
  return wanted.includes(is) ? met(`${name} ${is}`) : missed(`the ${name} is ${is}, not ${wanted.join(" or ")}`)
}

function list(value: unknown): string[] {
  return value === undefined ? [] : Array.isArray(value) ? (value as string[]) : [value as string]
}

function choiceIds(message: Message): string[] {
  return message.choice ? (message.choice.ids ?? [message.choice.id]) : []
}

/** `day:*` takes every choice that begins with `day:`. */
function fitsChoice(wanted: string, id: string): boolean {
  return wanted.endsWith("*") ? id.startsWith(wanted.slice(0, -1)) : wanted === id
}

function fitsState(is: unknown, wanted: unknown): boolean {
  return Array.isArray(wanted) && !Array.isArray(is)
    ? wanted.some((one) => isDeepStrictEqual(is, one))
    : isDeepStrictEqual(is ?? null, wanted)
}

function namesEvent(condition: Condition, event: string): boolean {
  if (list(condition.event).includes(event)) return true
  return [...(condition.any ?? []), ...(condition.all ?? [])].some((inner) => namesEvent(inner, event))
}

function mergeSlots(findings: Finding[]): Slots {
  return Object.assign({}, ...findings.map((finding) => finding.slots)) as Slots
}

function whereLeft(phrase: string, run: PhraseRun & { matches: false }, look: Wording): string {
  const wanted = run.wanted.slice(0, 6).join(" or ")
  const word = look.words[run.stoppedAt]
  if (!word) return `the phrase "${phrase}" continues after the end of the text with ${wanted}`
  const found = look.text.slice(word.start, word.end)
  if (run.stoppedAt === 0) return `the phrase "${phrase}" begins with ${wanted}, the text with "${found}"`
  return `the phrase "${phrase}" wants ${wanted} where the text says "${found}"`
}
