import { readJson } from "../../message/json.ts"
import type { Content, Inline } from "../profile.ts"
import { readXml } from "../xml.ts"
import type { SampleField } from "./sample.ts"

const names = {
  text: /text|content|message|body|msg|reply|said|words/i,
  to: /^to|recipient|receiver|destination/i,
  from: /^from|sender|source|origin/i,
  time: /time|date/i,
}

/**
 * How a gateway is answered inside its call, from an example of such an answer: the words, who gets them, and what is
 * repeated from the call itself.
 *
 * @param fields of a sample of the gateway's calls
 */
export function inlineFrom(
  example: string,
  fields: SampleField[],
): Omit<Inline, "longest" | "late"> | { fault: string } {
  const text = example.trim()
  const within = 4.5
  const form = text.startsWith("<") ? "xml" : /^[[{]/.test(text) ? "json" : "text"
  if (form === "text") return { within, body: "text", text: "{text}" }
  let tree: unknown
  try {
    tree = form === "xml" ? readXml(text) : readJson(Buffer.from(text))
  } catch (error) {
    return { fault: `the example of an answer cannot be read: ${(error as Error).message.slice(0, 150)}` }
  }
  let saysText = false
  const written = (name: string, value: string): string => {
    if (names.to.test(name)) return "{to}"
    if (names.from.test(name)) return fromOf(fields)
    if (names.time.test(name)) return /^\d{13}$/.test(value) ? "{now:ms}" : "{now}"
    if (names.text.test(name) && !/type/i.test(name) && !saysText) {
      saysText = true
      return "{text}"
    }
    // What is the same in the call is repeated from it.
    const same = fields.find((field) => field.value === value && value.length > 4)
    return same ? `{in:${same.where}}` : value
  }
  const inside = (value: unknown, name: string): unknown => {
    if (Array.isArray(value)) return value.map((one) => inside(one, name))
    if (typeof value !== "object" || value === null) return written(name, String(value))
    return Object.fromEntries(Object.entries(value).map(([key, one]) => [key, inside(one, key)]))
  }
  const send = inside(tree, "") as Content
  return saysText
    ? { within, body: form, send }
    : { fault: "none of the fields of the example answer looks like a text" }
}

/** Ourselves, as the call names us; where it does not, our own number. */
function fromOf(fields: SampleField[]): string {
  const own = fields.find(({ where }) => /^to/i.test(where.split("/").at(-1)!))
  return own ? `{in:${own.where}}` : "{number}"
}
