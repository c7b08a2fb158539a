import Joi from "joi"
import picomatch from "picomatch"
import { kindOf } from "../../core/channels/registry.ts"
import type { ModelOrder } from "../../core/model/order.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { fillText } from "../../core/routing/fillText.ts"
import type { Bot } from "../../core/routing/bot.ts"
import { list, oneOrMore } from "../../core/routing/parts.ts"
import type { Written } from "../../core/routing/texts.ts"
import { writtenText } from "../../core/routing/texts.ts"
import type { WaitAnswer } from "../../store/waits.ts"
import type { AsksElsewhere } from "./elsewhere.ts"
import { cameBack, elsewhereKeys, insteadOf, meanwhileOf } from "./elsewhere.ts"
import type { HandlerAnswer, HandlerGiven, HandlerKind, ReadyRelease, TurnInput } from "./handler.ts"
import { fillingOf } from "./text.ts"

interface ModelHandler extends AsksElsewhere {
  model: string
  instructions: string
  /** Messages of before that go along. */
  memory: number
  facts: string[]
  tools: string[]
  /** Characters of an answer, or by kinds of channel. */
  length?: number | { [kind: string]: number }
  /** Said where a limit of the day is reached. */
  over?: Written
  stream: boolean
  links?: "facts"
  leave: boolean
}

/** Said where an answer is about to grow, and nothing else was written for it. */
const growing = "…"
/** Characters of an answer, where nothing is said of it. */
const usualLength = 1500

const { history: _history, ...keys } = elsewhereKeys
const length = Joi.number().integer().min(20).max(20_000)

/** `handler: { model: harbour, instructions: persona.md }`: a model answers, from instructions, facts and tools. */
export const model: HandlerKind = {
  kind: "model",
  asksElsewhere: true,
  insteadOf,
  schema: Joi.object({
    model: Joi.string().required(),
    instructions: Joi.string().max(200).required(),
    memory: Joi.number().integer().min(0).max(100).default(12),
    facts: oneOrMore(Joi.string().max(200))
      .custom((value: string | string[]) => list(value))
      .default([]),
    tools: oneOrMore(Joi.string().pattern(/^[A-Za-z0-9_-]{1,60}$/))
      .custom((value: string | string[]) => list(value))
      .default([]),
    length: Joi.alternatives(length, Joi.object().pattern(Joi.string(), length).min(1)),
    over: writtenText,
    stream: Joi.boolean().default(false),
    links: Joi.valid("facts"),
    leave: Joi.boolean().default(false),
    ...keys,
    within: keys.within.default(60_000),
  }),
  secretsOf: (written, { models }) => list(models?.[String(written.model)]?.key),
  async run(written, turn, release, given) {
    const handler = written as unknown as ModelHandler
    const { asking, secrets } = given
    if (!asking) throw new Error("A model is asked only by turns.")
    const { standing } = asking
    if (standing?.came) {
      // What grows must have arrived before it can become the answer.
      if (standing.draft === "on its way") return { outcome: {}, log: [], waits: "still" }
      return onDraft(answerOf(handler, standing.came, turn, release, given), standing.draft)
    }
    if (standing) return { outcome: {}, log: [], waits: "still" }
    const { bot } = release.table
    const order = orderOf(handler, bot, turn, release, given)
    const { address, atOnce, key } = bot.models![handler.model]!
    const asked = await asking.model(
      {
        address,
        limit: handler.within,
        atOnce,
        signedBy: list(key),
        secrets: Object.keys(secrets).filter((name) => name !== key),
        model: order,
      },
      { within: handler.within, history: handler.memory },
    )
    if ("answer" in asked) return { ...answerOf(handler, asked.answer, turn, release, given), calls: asked.calls }
    const meanwhile = meanwhileOf(handler, turn, release, given) ?? (order.stream ? growing : undefined)
    const draft = order.stream ? { draft: true as const } : {}
    return { outcome: {}, log: [], waits: { ...asked.waits, meanwhile, ...draft }, calls: asked.calls }
  },
}

/** The answer takes the place of what was shown growing; where there is nothing to say, that goes. */
function onDraft(answer: HandlerAnswer, draft: string | undefined): HandlerAnswer {
  if (draft === undefined) return answer
  const replies = (answer.outcome.replies ?? []) as ReplyPart[]
  const [first, ...others] = replies
  const instead: ReplyPart =
    first?.part === "text" ? { part: "amend", to: draft, text: first.text } : { part: "remove", to: draft }
  const rest = first?.part === "text" ? others : replies
  return { ...answer, outcome: { ...answer.outcome, replies: [instead, ...rest] } }
}

function orderOf(
  handler: ModelHandler,
  { files = {} }: Bot,
  turn: TurnInput,
  { table }: ReadyRelease,
  given: HandlerGiven,
): ModelOrder {
  const named = Object.keys(files).filter((file) => handler.facts.some((pattern) => picomatch(pattern)(file)))
  const { abilities } = kindOf(turn.channel.kind)
  const { length } = handler
  const wished = typeof length === "number" ? length : (length?.[turn.channel.kind] ?? length?.otherwise)
  return {
    name: handler.model,
    instructions: fillText(files[handler.instructions]!, fillingOf(turn, table, given), []),
    facts: named,
    tools: handler.tools,
    length: Math.min(wished ?? usualLength, abilities.textLength),
    links: handler.links === "facts",
    leave: handler.leave,
    stream: handler.stream && abilities.parts.amend.how === "native" && turn.channel.kind !== "custom",
  }
}

function answerOf(
  handler: ModelHandler,
  came: WaitAnswer,
  turn: TurnInput,
  release: ReadyRelease,
  given: HandlerGiven,
): HandlerAnswer {
  const { over, ...others } = handler
  if ("fails" in came && came.over && over !== undefined)
    return cameBack({ ...others, fallback: over }, came, turn, release, given)
  return cameBack(handler, came, turn, release, given)
}
