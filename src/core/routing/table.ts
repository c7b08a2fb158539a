import Joi from "joi"
import type { Mark } from "../message/message.ts"
import { spokenEvents } from "../message/message.ts"
import type { PhraseRun } from "../phrase/automaton.ts"
import { PhraseAutomaton } from "../phrase/automaton.ts"
import type { SaidWords } from "../phrase/automaton.ts"
import { readPhrase } from "../phrase/read.ts"
import { RuleBook } from "../phrase/rules.ts"
import { readSpans } from "../phrase/spans.ts"
import { readWords } from "../phrase/words.ts"
import { maySpeak, notServed } from "./addressed.ts"
import type { Bot, Route } from "./bot.ts"
import type { HandlerName } from "./handlerName.ts"
import { hasVariants } from "./variants.ts"
import type { Look as PlainLook } from "./checks.ts"
import { checks, choiceIds, speaks } from "./checks.ts"
import type { Condition } from "./condition.ts"
import { conditionSchema, everyCondition, inner } from "./condition.ts"
import type { Finding, Slots } from "./finding.ts"
import { mergeSlots, met, missed } from "./finding.ts"
import type { OpenAt } from "./hours.ts"
import { OpeningHours } from "./hours.ts"
import { list } from "./parts.ts"
import { Pattern } from "./pattern.ts"
import { modernBot } from "./rewrite.ts"
import type { FactsNeeded, Situation } from "./situation.ts"
import { unroutedCases, unroutedHandler, unroutedName } from "./unrouted.ts"

export type Decision =
  | { took: "route"; route: Route; slots: Slots }
  | { took: "unrouted"; handler: HandlerName | undefined }
  /** Something nobody said, such as an edit, that no route names; or said where the bot does not speak. */
  | { took: "passed over"; why: string }

/** Why one route did or did not take a message. */
export interface RouteExplanation {
  route: string
  met: boolean
  /** Set where it depends on something that was not given. */
  depends?: true
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
  private sources: string[] | undefined
  private readonly automaton: PhraseAutomaton
  private readonly byTrigger = new Map<string, number[]>()
  private readonly always: number[] = []

  /** Tables of conditions that stand in no route. */
  private readonly expected = new Map<string, RouteTable>()
  private readonly patterns: ReadonlyMap<string, Pattern>
  private readonly hours: ReadonlyMap<string, OpeningHours>

  readonly bot: Bot
  readonly needs: FactsNeeded
  /** The routes of which it is counted how many messages they have taken. */
  readonly counted: ReadonlySet<string>

  constructor(given: Bot) {
    const bot = (this.bot = modernBot(given))
    bot.routes.forEach((route) => this.collectPhrases(route.when))
    const rules = new RuleBook(bot.rules)
    this.automaton = new PhraseAutomaton([...this.phrases.keys()].map((source) => rules.resolved(readPhrase(source))))
    this.patterns = new Map(
      conditionsOf(bot).flatMap(({ pattern }) => list(pattern).map((source) => [source, new Pattern(source)])),
    )
    this.hours = new Map(
      Object.entries(bot.hours ?? {}).map(([name, hours]) => [name, new OpeningHours(hours, bot.zone)]),
    )
    this.counted = countedRoutes(bot)
    this.needs = factsNeeded(bot, this.counted)
    bot.routes.forEach((route, at) => {
      const triggers = this.triggersOf(route.when)
      if (triggers === undefined) this.always.push(at)
      for (const trigger of triggers ?? []) this.byTrigger.set(trigger, [...(this.byTrigger.get(trigger) ?? []), at])
    })
  }

  /**
   * @param aside set where a question is open: then only a route takes the message that was spoken to (its phrase,
   *   pattern, command or choice is met), and none that leads to the handler which put the question
   */
  decide(situation: Situation, aside?: { but: string }): Decision {
    const elsewhere = notServed(this.bot.only, situation)
    if (elsewhere !== undefined) return { took: "passed over", why: elsewhere }
    const look = this.look(situation)
    for (const at of this.candidates(look)) {
      const route = this.bot.routes[at]!
      const finding = this.finding(route, look)
      if (!finding.met) continue
      if (aside && (route.handler === aside.but || !this.isSpokenTo(route.when, look))) continue
      return { took: "route", route, slots: finding.slots }
    }
    const { event } = situation.message
    if (!spokenEvents.has(event)) return { took: "passed over", why: `no route names the event "${event}"` }
    if (!look.speaks.met) return { took: "passed over", why: look.speaks.why }
    return { took: "unrouted", handler: unroutedHandler(this.bot.unrouted, situation.message) }
  }

  /** Whether a message meets a condition that stands in no route; what it holds is compiled once. */
  meets(when: Condition, situation: Situation): boolean {
    return this.expecting(when).decide(situation).took === "route"
  }

  /**
   * A table of one condition.
   *
   * @throws PhraseError, RuleError, or an Error that says what is wrong with the condition
   */
  expecting(when: Condition): RouteTable {
    const key = JSON.stringify(when)
    let table = this.expected.get(key)
    if (!table) {
      const { error, value } = expectedSchema.validate(when) as { error?: Error; value: Condition }
      if (error) throw error
      const missing = hoursNamed(value).find((name) => !this.hours.has(name))
      if (missing !== undefined) throw new Error(`there are no hours "${missing}"`)
      table = new RouteTable({ ...this.bot, routes: [{ name: "expected", when: value, handler: "expected" }] })
      this.expected.set(key, table)
      if (this.expected.size > mostExpected) this.expected.delete(this.expected.keys().next().value!)
    }
    return table
  }

  /** Every route in file order, with the reason. */
  explain(situation: Situation): RouteExplanation[] {
    const elsewhere = notServed(this.bot.only, situation)
    const look = this.look(situation)
    return this.bot.routes.map((route) => {
      const { met, why, slots, depends } = elsewhere === undefined ? this.finding(route, look) : missed(elsewhere)
      return {
        route: route.name,
        met,
        ...(depends ? { depends } : {}),
        why,
        ...(met && Object.keys(slots).length > 0 ? { slots } : {}),
      }
    })
  }

  /** The phrases of the bot's routes that take a text. */
  phrasesIn(text: string): ReadonlySet<string> {
    const all = (this.sources ??= [...this.phrases.keys()])
    return new Set([...this.automaton.matching(this.read(text, someTime))].map((at) => all[at]!))
  }

  /** When the bot's hours begin and end, seen from a time. */
  opening(name: string, now: string): OpenAt | undefined {
    return this.hours.get(name)?.at(now)
  }

  /** When the hours are over in which nothing starts from the bot, ISO 8601; undefined outside of them. */
  quietUntil(now: string): string | undefined {
    const ends = (this.bot.quiet ?? []).flatMap((name) => {
      const { open, closes } = this.hours.get(name)?.at(now) ?? { open: false }
      return open && closes ? [closes.toUTC().toISO()!] : []
    })
    return ends.sort().at(-1)
  }

  private look(situation: Situation): Look {
    const { message, messages = [] } = situation
    const said = messages.length > 1 ? [message, ...messages] : [message]
    const wordings = said
      .filter((one) => wordsEvents.has(one.event) && one.text !== undefined)
      .map(({ text = "", sentAt, marks }): Wording => {
        const said = this.read(text, sentAt ?? situation.now, message.from?.language, marks)
        return { ...said, matching: this.automaton.matching(said) }
      })
    const { patterns, hours } = this
    const speaks = maySpeak(this.bot.groups, situation)
    return { ...situation, route: "", patterns, hours, wordings, speaks }
  }

  private read(text: string, now: string, spoken = "", marks: Mark[] = []): SaidWords {
    const all = readWords(text)
    const self = marks.filter((mark) => mark.self)
    const words =
      self.length === 0
        ? all
        : all.filter(({ start }) => !self.some(({ offset, length }) => start >= offset && start < offset + length))
    const { types } = this.automaton
    const listed = this.automaton.listed(words, text)
    if (types.size === 0) return { text, words, spans: listed }
    const { language, zone, country } = this.bot
    // Of the bot's languages, the person's own counts first.
    const own = language.filter((code) => speaks(spoken, code))
    const reading = {
      languages: [...new Set([...own, ...language])],
      zone,
      now,
      types,
      ...(country === undefined ? {} : { country }),
    }
    return { text, words, spans: [...readSpans(text, words, reading), ...listed] }
  }

  private candidates(look: Look): number[] {
    const found = new Set(this.always)
    const add = (trigger: string) => this.byTrigger.get(trigger)?.forEach((at) => found.add(at))
    for (const { matching } of look.wordings) for (const phrase of matching) add(`phrase ${phrase}`)
    if (look.message.command) add(`command ${look.message.command.name}`)
    for (const id of choiceIds(look.message)) add(`choice ${id}`)
    return [...found].sort((a, b) => a - b)
  }

  /** Edits, reactions and the like run only a route that names their event; that one takes them where the bot is silent too. */
  private finding(route: Route, look: Look): Finding {
    const { event } = look.message
    const named = namesEvent(route.when, event)
    if (!named && !spokenEvents.has(event))
      return missed(`nobody said this (event ${event}); a route takes it only with "event: ${event}"`)
    if (!named && !look.speaks.met && !look.speaks.depends) return look.speaks
    look.route = route.name
    const finding = this.check(route.when, look)
    return finding.met && !named && look.speaks.depends ? { ...look.speaks, slots: {} } : finding
  }

  private check(condition: Condition, look: Look): Finding {
    const findings: Finding[] = []
    let open: Finding | undefined
    for (const name in condition) {
      const finding = this.checkOne(name as keyof Condition, condition, look)
      if (!finding.met && !finding.depends) return finding
      if (finding.depends) open ??= finding
      findings.push(finding)
    }
    return open ?? { met: true, why: findings.map((finding) => finding.why).join(", "), slots: mergeSlots(findings) }
  }

  private checkOne(name: keyof Condition, condition: Condition, look: Look): Finding {
    switch (name) {
      case "phrase":
        return this.checkPhrases(list(condition.phrase), look)
      case "any": {
        const findings = condition.any!.map((one) => this.check(one, look))
        return (
          findings.find((finding) => finding.met) ??
          findings.find((finding) => finding.depends) ??
          missed(findings.map((finding) => finding.why).join("; and "))
        )
      }
      case "all": {
        const findings = condition.all!.map((one) => this.check(one, look))
        const missing = findings.find((finding) => !finding.met && !finding.depends)
        const open = findings.find((finding) => finding.depends)
        return missing ?? open ?? met(findings.map((finding) => finding.why).join(", "), mergeSlots(findings))
      }
      case "not": {
        const within = this.check(condition.not!, look)
        if (within.depends) return within
        return within.met ? missed(`it must not be: ${within.why}`) : met(`not met: ${within.why}`)
      }
      default:
        return (checks[name] as (wanted: unknown, look: Look) => Finding)(condition[name], look)
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
    inner(condition).forEach((one) => this.collectPhrases(one))
  }

  /** Whether a condition that is met is so by what was said to it, and not only by where, when or to whom. */
  private isSpokenTo(condition: Condition, look: Look): boolean {
    if (condition.phrase ?? condition.pattern ?? condition.command ?? condition.choice) return true
    const one = condition.any?.some((inner) => this.check(inner, look).met && this.isSpokenTo(inner, look))
    return one === true || condition.all?.some((inner) => this.isSpokenTo(inner, look)) === true
  }

  /** Of which things at least one must be there for the condition to be met; nothing when there are none such. */
  private triggersOf(condition: Condition): string[] | undefined {
    const options: string[][] = []
    if (condition.phrase) options.push(list(condition.phrase).map((phrase) => `phrase ${this.phrases.get(phrase)}`))
    if (condition.command) options.push(list(condition.command).map((name) => `command ${name.toLowerCase()}`))
    if (condition.choice && !list(condition.choice).some((id) => id.endsWith("*"))) {
      options.push(list(condition.choice).map((id) => `choice ${id}`))
    }
    for (const one of condition.all ?? []) {
      const triggers = this.triggersOf(one)
      if (triggers) options.push(triggers)
    }
    if (condition.any) {
      const each = condition.any.map((one) => this.triggersOf(one))
      if (each.every((triggers) => triggers !== undefined)) options.push(each.flat())
    }
    return options.sort((a, b) => a.length - b.length)[0]
  }
}

/** Conditions of interviews that are kept compiled. */
const mostExpected = 200
const expectedSchema = conditionSchema(Joi.string().max(2000))

function hoursNamed(when: Condition): string[] {
  return [...everyCondition(when)].flatMap(([{ during, outside }]) => [...list(during), ...list(outside)])
}

/** Where no time is given, one by which any date is near. */
const someTime = "2026-12-01T12:00:00Z"

interface Look extends PlainLook {
  wordings: Wording[]
  /** Whether the bot may speak here. */
  speaks: Finding
}

interface Wording extends SaidWords {
  matching: ReadonlySet<number>
}

/** Events whose text a phrase is compared with. A command is no phrase, even where its name is a word of one. */
const wordsEvents: ReadonlySet<string> = new Set(["text", "media", "edited", "deleted"])

/** Every condition of a bot's routes. */
function conditionsOf(bot: Bot): Condition[] {
  return [...bot.routes, ...(bot.also ?? [])].flatMap(({ when }) =>
    [...everyCondition(when)].map(([condition]) => condition),
  )
}

/** Routes whose condition or whose variants of a text ask how often they have answered. */
function countedRoutes(bot: Bot): ReadonlySet<string> {
  const asks = ({ when, handler }: Route) =>
    [...everyCondition(when)].some(([condition]) => condition.said !== undefined) || hasVariants(handler, bot)
  const unrouted = unroutedCases(bot.unrouted).some(({ handler }) => hasVariants(handler, bot))
  return new Set([...bot.routes.filter(asks).map(({ name }) => name), ...(unrouted ? [unroutedName] : [])])
}

function factsNeeded(bot: Bot, counted: ReadonlySet<string>): FactsNeeded {
  const conditions = conditionsOf(bot)
  const namesPlaces =
    conditions.some(({ place }) => typeof place === "object" && !Array.isArray(place)) ||
    bot.only?.places !== undefined ||
    bot.groups.places !== undefined
  return {
    taken: counted.size > 0,
    silent: conditions.some(({ silent }) => silent !== undefined),
    contact:
      conditions.some(({ contact, may }) => contact !== undefined || may !== undefined) ||
      JSON.stringify(bot).includes("contact.fields."),
    placeTags: namesPlaces,
  }
}

function namesEvent(condition: Condition, event: string): boolean {
  if (list(condition.event).includes(event)) return true
  return [...(condition.any ?? []), ...(condition.all ?? [])].some((one) => namesEvent(one, event))
}

function whereLeft(phrase: string, run: PhraseRun & { matches: false }, look: Wording): string {
  const wanted = run.wanted.slice(0, 6).join(" or ")
  const word = look.words[run.stoppedAt]
  if (!word) return `the phrase "${phrase}" continues after the end of the text with ${wanted}`
  const found = look.text.slice(word.start, word.end)
  if (run.stoppedAt === 0) return `the phrase "${phrase}" begins with ${wanted}, the text with "${found}"`
  return `the phrase "${phrase}" wants ${wanted} where the text says "${found}"`
}
