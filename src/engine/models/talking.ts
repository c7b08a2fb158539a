import { LRUCache } from "lru-cache"
import { DateTime } from "luxon"
import type { AskedTurn } from "../../core/elsewhere/asked.ts"
import type { EndpointAnswer } from "../../core/elsewhere/answer.ts"
import type { ElsewhereCall } from "../../core/elsewhere/note.ts"
import { storableJson } from "../../core/message/graphemes.ts"
import { wordsOf } from "../../core/message/words.ts"
import type { ModelCame } from "../../core/model/answer.ts"
import { factsIn, FactSearch } from "../../core/model/facts.ts"
import type { Model, ModelMessage, ToolCall, ToolDescription, Usage } from "../../core/model/model.ts"
import { costOf, tokensOf, tokensOfMessages } from "../../core/model/model.ts"
import type { ModelOrder } from "../../core/model/order.ts"
import type { AskedAs } from "../../core/model/request.ts"
import { leaveTool, questionMessages, requestBody } from "../../core/model/request.ts"
import { allowed } from "../../core/model/said.ts"
import type { Bot } from "../../core/routing/bot.ts"
import type { Database } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import type { Claim } from "../../store/onces.ts"
import { onceGave } from "../../store/onces.ts"
import type { Spender, Spent } from "../../store/spending.ts"
import { reserve, settle } from "../../store/spending.ts"
import { keptWords } from "../calls/failureWords.ts"
import type { ReadyRelease, TurnInput } from "../handlers/handler.ts"
import { HandlerFault } from "../handlers/handler.ts"
import { keepingOf, onceOf } from "../handlers/keeping.ts"
import type { Values } from "../handlers/namedSecrets.ts"
import { masked } from "../handlers/namedSecrets.ts"
import { onceKey } from "../handlers/once.ts"
import type { Releases } from "../handlers/releases.ts"
import { describeTool, runTool } from "../handlers/toolEntries.ts"
import type { ModelCalled } from "./modelCall.ts"
import { callModel, completionsOf } from "./modelCall.ts"
import { wallClock } from "../process/wallClock.ts"

/** Times a model may be asked for one answer: each round but the last it wants tools used. */
const mostRounds = 6
/** Characters of what a tool gives that a model is told. */
const longestGiven = 8000
/** Characters of a tool's call and of what it gave, as they stand with the turn. */
const longestNoted = 500
/** Lines of what a tool printed. */
const mostPrinted = 20

/** A turn a model is to be asked about. */
export interface ModelToAsk {
  order: ModelOrder
  turn: AskedTurn
  message: string
  position: number
  /** Where the last of its messages stands. */
  to: number
  leg: number
  claim: Claim
  /** Milliseconds it may take in all. */
  within: number
  /** Name of the secret that is the server's key; what stands beside it is for tools. */
  key: string | undefined
  values: Values
  signal: AbortSignal
  /** Told what the model has said so far, where that is to be shown. */
  grows?: ((text: string) => void) | undefined
}

/** @property down whether that says that the server is not well */
export interface ModelRun {
  came: EndpointAnswer
  calls: ElsewhereCall[]
  down: boolean
}

/** Asks models: in rounds, as long as they want tools used, each round and each tool on record before the next. */
export class Talking {
  /** By release and handler. */
  private readonly searches = new LRUCache<string, Promise<FactSearch>>({ max: 100 })
  /** How servers want to be asked, where that is not as most do. */
  private readonly wanted = new LRUCache<string, AskedAs>({ max: 1000 })
  private readonly tools = new LRUCache<string, ToolDescription>({ max: 1000 })

  constructor(private readonly parts: { database: Database; releases: Releases; networks: string[] }) {}

  /** Asks a model until it has answered. Throws only what is no fault of the model's. */
  async ask(asked: ModelToAsk): Promise<ModelRun> {
    return this.parts.releases.with(asked.turn.release, async (release) => {
      const bot = release?.table.bot
      const model = bot?.models?.[asked.order.name]
      if (!release || !model)
        return {
          came: { is: "unfit", why: `there is no model "${asked.order.name}" any more` },
          calls: [],
          down: false,
        }
      try {
        const { came, calls, down } = await this.talk(asked, release, model)
        // It may say anything, also what no database takes.
        return storableJson({ came, calls, down }) as ModelRun
      } catch (error) {
        const why = (error as Error).message
        if (error instanceof LostTurn) return { came: { is: "again", why }, calls: [], down: false }
        // Its tools cannot be loaded, or do not say what they are.
        if (error instanceof HandlerFault) return { came: { is: "unfit", why }, calls: [], down: false }
        throw error
      }
    })
  }

  private async talk(asked: ModelToAsk, release: ReadyRelease, model: Model): Promise<ModelRun> {
    const { order, turn, values, within } = asked
    const { bot } = release.table
    const until = performance.now() + within
    const input = inputOf(turn)
    const tools = await this.toolsFor(order, release, input)
    const words = wordsOf(turn.message)
    const facts = (await this.searchFor(release.id, order, bot)).find(askedWords(turn, words), model.context)
    const messages = questionMessages(
      {
        instructions: order.instructions,
        facts,
        person: { name: turn.contact.name, language: turn.contact.language, address: turn.message.from?.address },
        now: turn.now,
        zone: bot.zone,
        length: order.length,
        links: order.links,
        leave: order.leave,
        // What only stood for an answer that was to come says nothing.
        memory: (turn.history ?? []).filter(({ text }) => text !== "…"),
        group: turn.conversation.place.kind === "group",
        words,
        tools,
      },
      model,
    )
    const calls: ElsewhereCall[] = []
    const done = (came: EndpointAnswer, down = false): ModelRun => ({ came, calls, down })
    for (let round = 1; round <= mostRounds; round++) {
      const left = Math.round(until - performance.now())
      if (left <= 0) return done({ is: "again", why: "it did not answer in time" }, true)
      const kept = tools.length > 0 ? await this.keptRound(asked, round) : undefined
      const { came, call, unfit } = kept ?? (await this.round(asked, release, model, { messages, tools, left }))
      if (unfit) return done(unfit)
      if (round === 1 && facts.length > 0) call.facts = facts.map(({ from }) => from)
      calls.push(call)
      if (came.is === "again")
        return done(
          { is: "again", why: came.why, ...(came.after === undefined ? {} : { after: came.after }) },
          came.down,
        )
      if (came.is === "unfit") return done({ is: "unfit", why: came.why })
      if (came.is === "said") return done(this.saidBy(asked, came.text, call, { bot, messages }))
      if (!kept) await this.keepRound(asked, round, came)
      if (came.calls.some(({ name }) => name === leaveTool.name && order.leave)) {
        call.came = "left to a person"
        const said = came.text.trim() === "" ? undefined : allowed(came.text, this.boundsOf(asked, bot, messages))
        const replies = said && "text" in said ? [{ part: "text" as const, text: said.text }] : []
        return done({ is: "answer", outcome: { replies, leave: "person" } })
      }
      messages.push(assistantMessage(came))
      call.tools = []
      for (const [nth, wanted] of came.calls.entries()) {
        const gave = await this.useTool(asked, release, tools, wanted, {
          round,
          nth,
          input,
          left: Math.round(until - performance.now()),
        })
        messages.push({ role: "tool", tool_call_id: wanted.id, content: gave.told })
        call.tools.push({
          name: wanted.name,
          with: keptWords(wanted.arguments, Object.values(values)).slice(0, longestNoted),
          gave: gave.told.slice(0, longestNoted),
          ...(gave.log.length > 0 ? { log: gave.log.slice(0, mostPrinted) } : {}),
        })
      }
      if (tokensOfMessages(messages, tools) + model.answer > model.context)
        return done({ is: "unfit", why: "what its tools gave is more than the model takes" })
    }
    return done({ is: "unfit", why: `it wanted tools again and again, more than ${mostRounds - 1} times` })
  }

  /** Asks once, within the limits of the day. */
  private async round(
    { turn, order, values, key, signal, grows }: ModelToAsk,
    { table: { bot } }: ReadyRelease,
    model: Model,
    { messages, tools, left }: { messages: ModelMessage[]; tools: ToolDescription[]; left: number },
  ): Promise<{ came: ModelCame; call: ElsewhereCall; unfit?: EndpointAnswer }> {
    const begun = wallClock("calendar")
    const start = performance.now()
    const call: ElsewhereCall = { to: completionsOf(model.address).href, at: begun.toISOString(), came: "" }
    const asked = tokensOfMessages(messages, tools)
    const dearest: Spent = {
      calls: 1,
      tokens: asked + model.answer,
      money: costOf({ asked, answered: model.answer }, model.prices),
    }
    const spender: Spender = {
      bot: bot.bot,
      model: order.name,
      who: turn.contact.id ?? turn.conversation.id,
      day: DateTime.fromJSDate(begun, { zone: bot.zone }).toISODate()!,
    }
    const { limits } = model
    if (limits) {
      const reached = await reserve(this.parts.database, spender, dearest, limits)
      if (reached) {
        const most = limits[reached.of]![reached.limit]!
        const whose = reached.of === "person" ? "one person" : "everybody together"
        const why = `the limit of ${most} ${reached.limit === "money" ? "in money" : reached.limit} a day for ${whose} is reached`
        return { came: { is: "unfit", why }, call, unfit: { is: "unfit", why, over: true } }
      }
      if (FAULTS_BUILT) await faultPoint("model: reserved")
    }
    const until = start + left
    const ask = (as: AskedAs) =>
      callModel({
        address: model.address,
        body: requestBody(model, messages, tools, as),
        key: key === undefined ? undefined : values[key],
        within: Math.round(until - performance.now()),
        stall: model.stall,
        networks: this.parts.networks,
        signal,
        grows,
      })
    const called = await this.askedRight(`${model.address} ${model.model}`, ask)
    if (FAULTS_BUILT) await faultPoint("model: answered")
    const spent = spentBy(called, dearest, asked, model)
    // Whoever gives prices wants to know what it comes to.
    if (limits || model.prices) await settle(this.parts.database, spender, dearest, spent, limits ?? {})
    const { came } = called
    call.took = Math.round(performance.now() - start)
    if (called.status !== undefined) call.status = called.status
    if (called.text !== "") call.answer = keptWords(called.text, Object.values(values))
    if (came.usage) {
      call.tokens = came.usage
      if (model.prices) call.cost = costOf(came.usage, model.prices)
    }
    call.came =
      came.is === "said"
        ? "answered"
        : came.is === "tools"
          ? `wanted ${came.calls.map(({ name }) => name.slice(0, 60)).join(", ")}`
          : came.why
    return { came, call }
  }

  /** Asks a server as it wants to be asked, which it says by refusing what it does not take. */
  private async askedRight(server: string, ask: (as: AskedAs) => Promise<ModelCalled>): Promise<ModelCalled> {
    let as = this.wanted.get(server) ?? { streams: true, limit: "max_tokens" }
    let called = await ask(as)
    const refused = () => called.status === 400 || called.status === 422
    const again = async (otherwise: Partial<AskedAs>) => {
      as = { ...as, ...otherwise }
      called = await ask(as)
      if (called.status === 200) this.wanted.set(server, as)
    }
    if (refused() && as.limit === "max_tokens" && "why" in called.came && /max_completion_tokens/.test(called.came.why))
      await again({ limit: "max_completion_tokens" })
    if (refused() && as.streams) await again({ streams: false })
    return called
  }

  /** What the model said, as far as it may be said. */
  private saidBy(
    asked: ModelToAsk,
    text: string,
    call: ElsewhereCall,
    { bot, messages }: { bot: Bot; messages: ModelMessage[] },
  ): EndpointAnswer {
    const said = allowed(text, this.boundsOf(asked, bot, messages))
    if ("unfit" in said) {
      call.came = said.unfit
      return { is: "unfit", why: said.unfit }
    }
    if (said.notes.length > 0) call.came = `answered; ${said.notes.join("; ")}`
    return { is: "answer", outcome: { replies: [{ part: "text", text: said.text }] } }
  }

  private boundsOf({ order, turn }: ModelToAsk, { files = {} }: Bot, messages: ModelMessage[]) {
    const ofFacts = order.facts.map((file) => files[file] ?? "")
    return {
      length: order.length,
      // A tool is the author's: what it gives may be named as well.
      ...(order.links
        ? {
            linksIn: [
              ...ofFacts,
              order.instructions,
              ...messages.flatMap((one) => (one.role === "tool" ? [one.content] : [])),
            ],
          }
        : {}),
      heard: [
        wordsOf(turn.message),
        ...(turn.history ?? []).map(({ text }) => text),
        order.instructions,
        ...messages.map(({ content }) => content ?? ""),
      ],
    }
  }

  private searchFor(release: string, { facts }: ModelOrder, { files = {} }: Bot): Promise<FactSearch> {
    const key = `${release} ${facts.join("\n")}`
    let search = this.searches.get(key)
    if (!search) {
      search = FactSearch.of(facts.flatMap((file) => factsIn(file, files[file] ?? "")))
      this.searches.set(key, search)
    }
    return search
  }

  private async toolsFor(
    { tools, leave }: ModelOrder,
    release: ReadyRelease,
    input: TurnInput,
  ): Promise<ToolDescription[]> {
    const described = await Promise.all(
      tools.map(async (name) => {
        const key = `${release.id} ${name}`
        const known = this.tools.get(key)
        if (known) return known
        const description = await describeTool(release.hosts!, name, input)
        this.tools.set(key, description)
        return description
      }),
    )
    return leave ? [...described, leaveTool] : described
  }

  /** Uses a tool, once: run again, what it gave is on record. */
  private async useTool(
    asked: ModelToAsk,
    release: ReadyRelease,
    tools: ToolDescription[],
    wanted: ToolCall,
    { round, nth, input, left }: { round: number; nth: number; input: TurnInput; left: number },
  ): Promise<{ told: string; log: string[] }> {
    if (!asked.order.tools.includes(wanted.name)) {
      const there = tools.map(({ name }) => name).join(", ")
      return {
        told: JSON.stringify({
          error: `There is no tool ${JSON.stringify(wanted.name.slice(0, 60))}. There are: ${there}.`,
        }),
        log: [],
      }
    }
    const { claim, message, to, position, values, key } = asked
    const part = ` model ${asked.leg} ${round}.${nth}`
    const once = onceOf(this.parts.database, { claim, message, to, part })
    const begun = await once.begin({ name: wanted.name, nth: 1, round: 0 })
    if ("refused" in begun) throw new LostTurn(begun.refused)
    if ("value" in begun) return { told: told(begun.value), log: [] }
    const ofTools = Object.fromEntries(Object.entries(values).filter(([name]) => name !== key))
    const keeping = keepingOf(this.parts.database, {
      claim,
      message,
      from: position,
      to,
      contact: asked.turn.contact.id ?? null,
      interview: { id: "", release: release.id, mark: "" },
      part,
    })
    const gave = await runTool(release.hosts!, wanted, input, {
      deadline: Math.max(100, Math.min(release.table.bot.deadline, left)),
      keeping,
      secrets: ofTools,
    })
    // Neither the record nor the model's server is told a secret.
    const { log, ...result } = masked(gave, values, new Set())
    const value = "fault" in result ? { error: result.fault } : result.value
    const ended = await once.end((begun as { key: string }).key, { value })
    if ("refused" in ended && ended.name === "ClaimLost") throw new LostTurn(ended.refused)
    if (FAULTS_BUILT) await faultPoint("model: tool used")
    return { told: told(value), log }
  }

  /** A round that wanted tools is on record before they are used: run again, they are the same. */
  private async keepRound(
    { claim, message, to, leg, values }: ModelToAsk,
    round: number,
    came: ModelCame,
  ): Promise<void> {
    const once = onceOf(this.parts.database, { claim, message, to, part: ` model ${leg}` })
    const begun = await once.begin(roundName(round))
    if ("refused" in begun) throw new LostTurn(begun.refused)
    if (!("key" in begun) || "value" in begun) return
    const ended = await once.end(begun.key, { value: masked(came, values, new Set()) })
    if ("refused" in ended) throw new LostTurn(ended.refused)
  }

  private async keptRound(
    { claim, message, leg, turn, order }: ModelToAsk,
    round: number,
  ): Promise<{ came: ModelCame; call: ElsewhereCall; unfit?: undefined } | undefined> {
    const scope = `${claim.conversation} ${message} model ${leg}`
    const found = await onceGave(this.parts.database, onceKey(scope, roundName(round)))
    if (!found) return undefined
    const came = found.value as ModelCame & { is: "tools" }
    const wanted = came.calls.map(({ name }) => name.slice(0, 60)).join(", ")
    return { came, call: { to: order.name, at: turn.now, came: `had wanted ${wanted}, before it was asked again` } }
  }
}

/** A turn that somebody else has by now. */
export class LostTurn extends Error {}

const roundName = (round: number) => ({ name: `model, round ${round}`, nth: 1, round: 0 })

function told(value: unknown): string {
  const text = typeof value === "string" ? value : JSON.stringify(value ?? null)
  return text.length > longestGiven ? `${text.slice(0, longestGiven).toWellFormed()} … (cut)` : text
}

function assistantMessage({ text, calls }: ModelCame & { is: "tools" }): ModelMessage {
  return {
    role: "assistant",
    content: text === "" ? null : text,
    tool_calls: calls.map((call) => ({
      id: call.id,
      type: "function",
      function: { name: call.name, arguments: call.arguments },
    })),
  }
}

/** What facts are looked up for: what was said now, and just before, as a question may hang on the one before it. */
function askedWords({ history = [] }: AskedTurn, words: string): string {
  const before = history.filter(({ direction }) => direction === "in").at(-1)?.text ?? ""
  return words.split(/\s+/).length < 5 ? `${words} ${before.slice(0, 300)}` : words
}

function inputOf({ message, messages, slots, state, contact, conversation, channel, now }: AskedTurn): TurnInput {
  const { fields: _fields, ...who } = contact
  return { message, messages, slots, state, contact: who, conversation, channel, again: false, now }
}

/** What a call cost: as its server counted, else as estimated; what was never served costs nothing. */
function spentBy(
  { came, reached, status, text }: ModelCalled,
  dearest: Spent,
  asked: number,
  { prices }: Model,
): Spent {
  const of = (usage: Usage): Spent => ({
    calls: 1,
    tokens: usage.asked + usage.answered,
    money: costOf(usage, prices),
  })
  if (came.usage) return of(came.usage)
  if (!reached || (status !== undefined && status !== 200)) return { calls: 0, tokens: 0, money: 0 }
  if (came.is === "said" || came.is === "tools") return of({ asked, answered: tokensOf(text) })
  return dearest
}
