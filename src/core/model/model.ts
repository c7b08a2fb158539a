import Joi from "joi"

/** A model server as `models:` in `bot.yaml` names it. */
export interface Model {
  /** The server's base address: `/chat/completions` is called beneath it. */
  address: string
  /** What the server calls the model. */
  model: string
  /** Name of the secret that goes along as a bearer token. */
  key?: string
  /** Tokens that a request and its answer may come to together. */
  context: number
  /** Tokens of an answer at most. */
  answer: number
  temperature?: number
  topP?: number
  /** With the same seed, servers that can give the same answer to the same question. */
  seed?: number
  /** Texts at which the answer ends. */
  stop?: string[]
  presencePenalty?: number
  frequencyPenalty?: number
  /** How much a model that reasons may do so, in the server's own word, such as `low`. */
  effort?: string
  /** Calls of one process to the server at once. */
  atOnce: number
  /** Milliseconds without a byte after which an answer that has begun counts as stalled. */
  stall: number
  /** What a million tokens cost, in whatever money the limits are in. */
  prices?: { asked: number; answered: number }
  /** What may be used in a day of the bot's zone. */
  limits?: Limits
}

export interface Limits {
  /** By one person. */
  person?: { calls?: number; tokens?: number; money?: number }
  /** By everybody. */
  all?: { calls?: number; tokens?: number; money?: number }
}

const ceiling = Joi.object({
  calls: Joi.number().integer().min(1),
  tokens: Joi.number().integer().min(1),
  money: Joi.number().greater(0),
}).min(1)

/** What may be written for a model. @param secretName how secrets are named */
export const modelSchema = (secretName: Joi.Schema, duration: Joi.Schema) =>
  Joi.object({
    address: Joi.string()
      .uri({ scheme: ["http", "https"] })
      .max(1000)
      .required()
      .custom((value: string, helpers) => {
        if (!URL.canParse(value)) return value
        const { username, password, search } = new URL(value)
        if (username === "" && password === "" && search === "") return value
        return helpers.message(
          { custom: "{#says}" },
          { says: "a model server's address must not contain a name, a password or a query" },
        )
      }),
    model: Joi.string().max(200).required(),
    key: secretName,
    context: Joi.number().integer().min(500).max(2_000_000).default(8000),
    answer: Joi.number().integer().min(16).max(32_000).default(500),
    temperature: Joi.number().min(0).max(2),
    topP: Joi.number().min(0).max(1),
    seed: Joi.number().integer(),
    stop: Joi.array().items(Joi.string().min(1).max(200)).single().min(1).max(4),
    presencePenalty: Joi.number().min(-2).max(2),
    frequencyPenalty: Joi.number().min(-2).max(2),
    effort: Joi.string().min(1).max(30),
    atOnce: Joi.number().integer().min(1).max(1000).default(500),
    stall: duration.default(30_000),
    prices: Joi.object({ asked: Joi.number().min(0).required(), answered: Joi.number().min(0).required() }),
    limits: Joi.object({ person: ceiling, all: ceiling }).min(1),
  })

/** A tool as the model is told of it. */
export interface ToolDescription {
  name: string
  description: string
  /** A JSON Schema. */
  parameters: { [key: string]: unknown }
}

/** A tool the model wants used. */
export interface ToolCall {
  id: string
  name: string
  /** JSON, as the model wrote it. */
  arguments: string
}

/** Messages as the wire form has them. */
export type ModelMessage =
  | { role: "system" | "user"; content: string }
  | { role: "assistant"; content: string | null; tool_calls?: WireCall[] }
  | { role: "tool"; tool_call_id: string; content: string }

interface WireCall {
  id: string
  type: "function"
  function: { name: string; arguments: string }
}

/** Tokens, as the server counts them, or as they are estimated. */
export interface Usage {
  asked: number
  answered: number
}

/** What the tokens cost; 0 without prices. */
export function costOf({ asked, answered }: Usage, prices: Model["prices"]): number {
  return prices ? (asked * prices.asked + answered * prices.answered) / 1_000_000 : 0
}

/**
 * Tokens of a text, estimated: a third of its bytes, which is above what tokenizers come to for European languages (a
 * quarter) and near it for others. What a server counts takes its place afterwards.
 */
export function tokensOf(text: string): number {
  return Math.ceil(Buffer.byteLength(text) / 3)
}

/** Tokens of a request, estimated as its servers count: each message has a few of its own. */
export function tokensOfMessages(messages: ModelMessage[], tools: ToolDescription[] = []): number {
  const ofTools = tools.length > 0 ? tokensOf(JSON.stringify(tools)) : 0
  return messages.reduce((sum, message) => sum + 4 + tokensOf(wordsOfMessage(message)), ofTools)
}

function wordsOfMessage(message: ModelMessage): string {
  const calls = message.role === "assistant" && message.tool_calls ? JSON.stringify(message.tool_calls) : ""
  return (message.content ?? "") + calls
}
