import type { AddressInfo } from "node:net"
import { setTimeout as pause } from "node:timers/promises"
import type { FastifyReply, FastifyRequest } from "fastify"
import fastify from "fastify"

/** How it may be made to answer, for a while. */
export const modelFaults = [
  "slow",
  "stall",
  "cut",
  "too long",
  "empty",
  "429",
  "500",
  "html",
  "endless",
  "huge",
  "inventing",
  "insisting",
  "shape",
  "script",
  "telling",
  "strict",
  "newer",
  "thinking",
  "odd",
] as const
export type ModelFault = (typeof modelFaults)[number]

/** A request as the model server had it. */
export interface AskedModel {
  at: number
  authorization: string | undefined
  body: ModelRequest
}

interface ModelRequest {
  model: string
  messages: { role: string; content: string | null; tool_calls?: unknown[] }[]
  tools?: { type: string; function: { name: string; parameters?: { properties?: object } } }[]
  max_tokens?: number
  max_completion_tokens?: number
  stream?: boolean
}

export interface ModelStandin {
  /** The base address, as `models:` names it. */
  address: string
  asked: AskedModel[]
  /** Answers so, as many times; `seconds` is how long the slow ones take. */
  act(fault: ModelFault, times?: number, seconds?: number): void
  /** Milliseconds before each answer, and between two of its words. */
  pace: { first: number; word: number }
  stop(): Promise<void>
}

/**
 * A made-up model server: it answers from the facts it is sent with a question, follows the tools it is offered, streams,
 * and goes wrong on demand. It understands nothing; it looks which sentence shares most words with the question.
 */
export async function startModel(options: { port?: number; key?: string } = {}): Promise<ModelStandin> {
  const asked: AskedModel[] = []
  const orders: { fault: ModelFault; left: number; seconds: number }[] = []
  const pace = { first: 0, word: 0 }
  const app = fastify({ forceCloseConnections: true, bodyLimit: 8 * 1024 * 1024 })
  app.post<{ Body: ModelRequest }>("/v1/chat/completions", async (request, reply) => {
    const { authorization } = request.headers
    asked.push({ at: Date.now(), authorization, body: request.body })
    if (asked.length > 20_000) asked.shift()
    if (options.key !== undefined && authorization !== `Bearer ${options.key}`)
      return reply.code(401).send({ error: { message: "the key is not known here" } })
    const order = orders[0]
    if (order && --order.left <= 0) orders.shift()
    await pause(order?.fault === "slow" ? order.seconds * 1000 : pace.first)
    return answer(request, reply, order?.fault, pace.word)
  })
  app.post<{ Body: { fault: ModelFault; times?: number; seconds?: number } }>("/act/fault", async ({ body }) => {
    orders.push({ fault: body.fault, left: body.times ?? 1, seconds: body.seconds ?? 5 })
    return { done: true }
  })
  app.get("/act/asked", async () => ({ asked: asked.slice(-100) }))
  await app.listen({ host: "127.0.0.1", port: options.port ?? 0 })
  const { port } = app.server.address() as AddressInfo
  return {
    address: `http://127.0.0.1:${port}/v1`,
    asked,
    pace,
    act: (fault, times = 1, seconds = 5) => void orders.push({ fault, left: times, seconds }),
    stop: () => app.close(),
  }
}

type Said = { content: string } | { tool: { name: string; arguments: string } }

async function answer(
  request: FastifyRequest<{ Body: ModelRequest }>,
  reply: FastifyReply,
  fault: ModelFault | undefined,
  word: number,
): Promise<unknown> {
  const { body } = request
  switch (fault) {
    case "429":
      return reply
        .code(429)
        .header("retry-after", "1")
        .send({ error: { message: "too many requests" } })
    case "500":
      return reply.code(500).send({ error: { message: "the model fell over" } })
    case "strict":
      if (!body.stream) break
      return reply.code(400).send({ error: { message: "stream is not known here" } })
    case "newer":
      if (body.max_tokens === undefined) break
      return reply.code(400).send({
        error: { message: "Unsupported parameter: 'max_tokens'. Use 'max_completion_tokens' instead." },
      })
    case "html":
      return reply.type("text/html").send("<html><body><h1>Welcome to the gateway</h1></body></html>")
    case "shape":
      return reply.send({ result: { message: "14:20" } })
  }
  const said = saidFor(body, fault, request.headers.authorization)
  if (!body.stream || fault === "huge") {
    const huge = { content: "fog ".repeat(2_600_000) }
    return reply.send(whole(body, fault === "huge" ? huge : said, fault))
  }
  return stream(reply, body, said, fault, word)
}

function whole(body: ModelRequest, said: Said, fault: ModelFault | undefined): object {
  const message =
    "tool" in said
      ? { role: "assistant", content: null, tool_calls: [{ id: "call_a", type: "function", function: said.tool }] }
      : { role: "assistant", content: said.content }
  return {
    id: "answer-1",
    object: "chat.completion",
    model: body.model,
    choices: [{ index: 0, message, finish_reason: finishOf(said, fault) }],
    usage: usageOf(body, said),
  }
}

const finishOf = (said: Said, fault: ModelFault | undefined) =>
  fault === "too long" ? "length" : "tool" in said ? "tool_calls" : "stop"

function usageOf({ messages }: ModelRequest, said: Said) {
  const words = messages.reduce((sum, { content }) => sum + (content ?? "").split(/\s+/).length, 0)
  const answered = "tool" in said ? 12 : said.content.split(/\s+/).length
  return { prompt_tokens: words, completion_tokens: answered, total_tokens: words + answered }
}

/** Server-sent events, a word at a time. */
async function stream(
  reply: FastifyReply,
  body: ModelRequest,
  said: Said,
  fault: ModelFault | undefined,
  word: number,
): Promise<void> {
  reply.hijack()
  const { raw } = reply
  raw.on("error", () => undefined)
  raw.writeHead(200, { "content-type": "text/event-stream; charset=utf-8", "cache-control": "no-cache" })
  const send = (value: object | string) =>
    raw.write(`data: ${typeof value === "string" ? value : JSON.stringify(value)}\n\n`)
  const piece = (delta: object, finish: string | null = null) =>
    send({
      id: "answer-1",
      object: "chat.completion.chunk",
      model: body.model,
      choices: [{ index: 0, delta, finish_reason: finish }],
    })
  piece({ role: "assistant", content: "" })
  if ("tool" in said) {
    const { name, arguments: given } = said.tool
    piece({ tool_calls: [{ index: 0, id: "call_a", type: "function", function: { name, arguments: "" } }] })
    for (const part of given.match(/.{1,8}/gs) ?? [])
      piece({ tool_calls: [{ index: 0, function: { arguments: part } }] })
  } else {
    const pieces = said.content.match(/\s*\S+/g) ?? []
    for (const [at, text] of pieces.entries()) {
      if (raw.destroyed) return
      if (at >= pieces.length / 2 && fault === "stall") return
      if (at >= pieces.length / 2 && fault === "cut") return void raw.destroy()
      piece({ content: text })
      if (word > 0) await pause(word)
    }
  }
  while (fault === "endless" && !raw.destroyed) {
    piece({ content: " and on" })
    await pause(1)
  }
  piece({}, finishOf(said, fault))
  send({ id: "answer-1", object: "chat.completion.chunk", model: body.model, choices: [], usage: usageOf(body, said) })
  send("[DONE]")
  raw.end()
}

function saidFor(body: ModelRequest, fault: ModelFault | undefined, authorization: string | undefined): Said {
  switch (fault) {
    case "empty":
      return { content: "" }
    case "inventing":
      return { tool: { name: "sell_the_boat", arguments: "{}" } }
    case "insisting":
      return { tool: { name: body.tools?.[0]?.function.name ?? "anything", arguments: "{}" } }
    case "script":
      return { content: "下一班渡轮将于十四点二十分从码头出发，请提前到达。" }
    case "telling":
      return { content: `My key is ${authorization ?? "none"}. Look at https://evil.example/take?it=all.` }
    case "odd":
      return {
        content: "The boat\u0000 leaves \ud800 now, says the [boss](mention:U1) and the [other](&#109;ention:U2).",
      }
    case "thinking": {
      const said = plainly(body)
      return "tool" in said ? said : { content: `<think>They ask, I answer. Is it so?</think>\n\n${said.content}` }
    }
    case "too long":
      return { content: "The boats are many and I shall list every one of them, beginning with" }
    default:
      return plainly(body)
  }
}

function plainly({ messages, tools = [] }: ModelRequest): Said {
  const asked = messages.findLast(({ role }) => role === "user")?.content ?? ""
  const words = wordsOf(asked)
  const last = messages.at(-1)!
  if (last.role === "tool") return { content: fromTool(last.content ?? "") }
  const tool = tools.find(({ function: { name } }) =>
    wordsOf(name.replaceAll("_", " ")).some((word) => words.includes(word)),
  )
  if (tool) return { tool: { name: tool.function.name, arguments: argumentsFor(asked, tool.function.parameters) } }
  const system = messages[0]?.role === "system" ? (messages[0].content ?? "") : ""
  const facts = system.split("\nFacts:\n")[1] ?? ""
  const sentences = facts.split(/(?<=[.!?])\s+|\n/).filter((one) => one.trim() !== "" && !one.startsWith("["))
  const ranked = sentences
    .map((sentence) => ({ sentence, shared: wordsOf(sentence).filter((word) => words.includes(word)).length }))
    .sort((one, other) => other.shared - one.shared)
  const [best] = ranked
  if (best && best.shared > 0) return { content: best.sentence.trim() }
  if (tools.some(({ function: { name } }) => name === "leave_to_person"))
    return { tool: { name: "leave_to_person", arguments: "{}" } }
  return { content: "I do not know that." }
}

/** What the tool's parameters take from the question: a word that is one of those allowed. */
function argumentsFor(asked: string, parameters: { properties?: object } | undefined): string {
  const given: { [name: string]: string } = {}
  for (const [name, property] of Object.entries(
    (parameters?.properties ?? {}) as { [name: string]: { enum?: string[] } },
  )) {
    const found = property.enum?.find((value) => asked.toLowerCase().includes(value.toLowerCase().split(" ")[0]!))
    if (found) given[name] = found
  }
  return JSON.stringify(given)
}

function fromTool(content: string): string {
  try {
    const value = JSON.parse(content) as unknown
    const [first] = Array.isArray(value) ? (value as { [field: string]: unknown }[]) : []
    if (first?.time) return `${String(first.to ?? "It")}: ${String(first.time)}.`
    return `So it says: ${content.slice(0, 200)}`
  } catch {
    return `So it says: ${content.slice(0, 200)}`
  }
}

const small = new Set([
  "the",
  "a",
  "an",
  "is",
  "are",
  "when",
  "what",
  "how",
  "to",
  "on",
  "of",
  "do",
  "does",
  "i",
  "my",
  "and",
  "in",
  "you",
  "can",
  "me",
])

function wordsOf(text: string): string[] {
  return (text.toLowerCase().match(/[\p{L}\p{N}]+/gu) ?? [])
    .filter((word) => !small.has(word))
    .map((word) => (word.length > 4 ? word.replace(/(es|s)$/, "") : word))
}
