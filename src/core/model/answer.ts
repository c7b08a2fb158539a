import type { EventSourceParser } from "eventsource-parser"
import { createParser } from "eventsource-parser"
import { passing, retryAfterOf } from "../elsewhere/answer.ts"
import type { ToolCall, Usage } from "./model.ts"
import { Spoken } from "./spoken.ts"

/** What one request to a model comes to. */
export type ModelCame =
  | { is: "said"; text: string; usage?: Usage }
  | { is: "tools"; calls: ToolCall[]; text: string; usage?: Usage }
  /** Another try may bring an answer. @property after milliseconds that it asked to be left alone for */
  | { is: "again"; why: string; after?: number; down: boolean; usage?: Usage }
  /** The same would come again. */
  | { is: "unfit"; why: string; usage?: Usage }

/** Characters of an answer, tools in one round, and characters of what one is called with. */
const longestText = 100_000
const mostCalls = 8
const longestArguments = 20_000

/** A piece of an answer, or a whole one, as far as it is looked at. */
interface Piece {
  error?: { message?: unknown } | string
  choices?: {
    delta?: Words
    message?: Words
    finish_reason?: string | null
  }[]
  usage?: { prompt_tokens?: unknown; completion_tokens?: unknown } | null
}

interface Words {
  /** A text, or pieces of one. */
  content?: unknown
  /** What it says where it will not answer. */
  refusal?: unknown
  tool_calls?: { index?: unknown; id?: unknown; function?: { name?: unknown; arguments?: unknown } }[] | null
}

/**
 * Reads a model's answer as it comes: server-sent events, or JSON in one piece from a server that does not stream. Never
 * throws on odd input.
 */
export class AnswerReader {
  private readonly spoken = new Spoken()
  private readonly calls = new Map<number, ToolCall>()
  private finish: string | undefined
  private usage: Usage | undefined
  private done = false
  private failed: ModelCame | undefined
  private whole = ""
  private readonly streams: boolean
  private readonly parser: EventSourceParser

  constructor(
    private readonly status: number,
    private readonly headers: { [name: string]: string },
  ) {
    this.streams = status === 200 && typeOf(headers) === "text/event-stream"
    this.parser = createParser({ onEvent: ({ data }) => this.event(data) })
  }

  /** What it has said so far, without what it only thought. */
  get text(): string {
    return this.spoken.text
  }

  /** Whether nothing that comes now changes anything. */
  get over(): boolean {
    return this.done || this.failed !== undefined
  }

  feed(chunk: string): void {
    if (this.over) return
    if (this.streams) this.parser.feed(chunk)
    else this.whole += chunk
  }

  /** What it came to, once nothing more comes. @param cut whether the connection ended early */
  end(now: Date, cut: boolean): ModelCame {
    const came = this.streams ? this.failed : this.wholeAnswer(now, cut)
    const usage = this.usage ? { usage: this.usage } : {}
    if (came) return { ...came, ...usage }
    this.spoken.end()
    const finished = this.finish !== undefined || this.done
    if (!finished || (cut && this.finish === undefined))
      return { is: "again", why: "its answer broke off before its end", down: false, ...usage }
    switch (this.finish) {
      case "length":
        return {
          is: "unfit",
          why: "its answer was cut off: it has more tokens than it may (finish_reason: length)",
          ...usage,
        }
      case "content_filter":
        return { is: "unfit", why: "its server held the answer back (finish_reason: content_filter)", ...usage }
      case "error":
        return { is: "again", why: "its server failed on the way (finish_reason: error)", down: false, ...usage }
    }
    const calls = [...this.calls.values()].filter(({ name }) => name !== "")
    if (calls.length > 0) return { is: "tools", calls, text: this.text, ...usage }
    if (this.text.trim() === "") return { is: "again", why: "its answer is empty", down: false, ...usage }
    return { is: "said", text: this.text, ...usage }
  }

  private event(data: string): void {
    if (this.over) return
    if (data.trim() === "[DONE]") {
      this.done = true
      return
    }
    const piece = readPiece(data)
    if (piece === undefined) this.failed = { is: "unfit", why: "a piece of its answer cannot be read as JSON" }
    else this.take(piece)
  }

  private take({ error, choices, usage }: Piece): void {
    if (error !== undefined && error !== null) {
      const says = typeof error === "string" ? error : error.message
      this.failed = { is: "again", why: `it told an error: ${words(says)}`, down: true }
      return
    }
    const asked = Number(usage?.prompt_tokens)
    const answered = Number(usage?.completion_tokens)
    if (usage && Number.isFinite(asked) && Number.isFinite(answered) && asked >= 0 && answered >= 0)
      this.usage = { asked, answered }
    const [choice] = Array.isArray(choices) ? choices : []
    if (choice?.finish_reason) this.finish = String(choice.finish_reason)
    const spoken = choice?.delta ?? choice?.message
    this.spoken.add(saidIn(spoken))
    if (this.spoken.length > longestText)
      this.failed = { is: "unfit", why: `its answer has more than ${longestText} characters` }
    if (Array.isArray(spoken?.tool_calls)) spoken.tool_calls.forEach((call, at) => this.call(call, at))
  }

  private call(given: NonNullable<Words["tool_calls"]>[number], at: number): void {
    const id = typeof given?.id === "string" ? given.id.slice(0, 200) : ""
    const { name, arguments: pieces } = given?.function ?? {}
    // Some servers number none: a call of another id is another call, and what has neither belongs to the last.
    const goesOn = id === "" && !name && this.calls.size > 0
    let index = typeof given?.index === "number" ? given.index : goesOn ? [...this.calls.keys()].at(-1)! : at
    const isAnother = (known: ToolCall | undefined) => known && known.id !== id && known.id !== `call_${index}`
    while (id !== "" && isAnother(this.calls.get(index))) index++
    let call = this.calls.get(index)
    if (!call) {
      if (this.calls.size >= mostCalls) {
        this.failed = { is: "unfit", why: `it wants more than ${mostCalls} tools at once` }
        return
      }
      this.calls.set(index, (call = { id: `call_${index}`, name: "", arguments: "" }))
    }
    if (id !== "") call.id = id
    // Some servers say the name again with every piece.
    if (typeof name === "string" && name !== call.name) call.name = (call.name + name).slice(0, 200)
    if (typeof pieces === "string") call.arguments += pieces
    else if (typeof pieces === "object" && pieces !== null) call.arguments = JSON.stringify(pieces)
    if (call.arguments.length > longestArguments)
      this.failed = { is: "unfit", why: `it calls a tool with more than ${longestArguments} characters` }
  }

  private wholeAnswer(now: Date, cut: boolean): ModelCame | undefined {
    const { status, headers, whole } = this
    if (passing.has(status)) {
      const after = retryAfterOf(headers["retry-after"], now)
      const why = `it answered ${status}${status === 429 ? ": too many requests" : ""}${saidOf(whole)}`
      return { is: "again", why, down: status !== 429, ...(after === undefined ? {} : { after }) }
    }
    if (status === 401 || status === 403) return { is: "unfit", why: `it does not take the key (${status})` }
    if (status < 200 || status > 299) return { is: "unfit", why: `it answered ${status}${saidOf(whole)}` }
    if (cut) return { is: "again", why: "its answer broke off before its end", down: false }
    const type = typeOf(headers)
    if (type !== "application/json")
      return { is: "unfit", why: `it answered ${type === "" ? "without a content type" : type}, not JSON` }
    const piece = readPiece(whole)
    if (piece === undefined) return { is: "unfit", why: "its JSON cannot be read: it may have been cut off" }
    this.take(piece)
    this.finish ??= "stop"
    return this.failed
  }
}

/** The text of a piece; its refusal where that is all there is. */
function saidIn(words: Words | undefined): string {
  const { content, refusal } = words ?? {}
  if (typeof content === "string") return content
  if (Array.isArray(content)) return content.map((part: { text?: unknown } | null) => textOf(part?.text)).join("")
  return textOf(refusal)
}

const textOf = (given: unknown) => (typeof given === "string" ? given : "")

function typeOf(headers: { [name: string]: string }): string {
  return (headers["content-type"] ?? "").split(";")[0]!.trim().toLowerCase()
}

function readPiece(data: string): Piece | undefined {
  try {
    const read = JSON.parse(data) as unknown
    return typeof read === "object" && read !== null ? (read as Piece) : undefined
  } catch {
    return undefined
  }
}

/** What an answer that is an error says. */
function saidOf(whole: string): string {
  const error = readPiece(whole)?.error
  const says = words(typeof error === "string" ? error : error?.message)
  return says === "" ? "" : `: ${says}`
}

const words = (given: unknown) => textOf(given).slice(0, 200)
