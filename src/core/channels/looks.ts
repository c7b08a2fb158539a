import type { Segments } from "../delivery/segments.ts"
import type { OutgoingCall } from "./call.ts"

/** What a person sees of one call: drawn the same way for every kind, so that kinds can be compared side by side. */
export interface Look {
  words: Stretch[]
  picture?: string
  /** What else comes with it, in words: a file, a map, a contact card. */
  with?: string
  options?: LookOption[]
  /** Cards that stand side by side. */
  beside?: Look[]
  /** How many parts a text message is sent and billed in. */
  segments?: Segments
}

export interface LookOption {
  label: string
  as: "button" | "quick reply" | "row" | "menu" | "link"
}

/** A stretch of words with one formatting. */
export interface Stretch {
  text: string
  as?: "bold" | "italic" | "code" | "link"
}

type Fields = { [field: string]: unknown }

/** A call's content by name, from JSON, a form or fields. */
export function contentOf(call: OutgoingCall): Fields {
  const { body } = call
  if (!body) return {}
  if ("json" in body) return (body.json ?? {}) as Fields
  const parts = "fields" in body ? body.fields : "form" in body ? body.form : "query" in body ? body.query : []
  return Object.fromEntries(parts.map((part) => [part.name, "data" in part ? part.filename : part.value]))
}

export const textOf = (value: unknown): string => (typeof value === "string" ? value : "")
export const fieldsOf = (value: unknown): Fields =>
  typeof value === "object" && value !== null ? (value as Fields) : {}
export const listOf = (value: unknown): Fields[] => (Array.isArray(value) ? value.map(fieldsOf) : [])

export function plain(text: string): Stretch[] {
  return text === "" ? [] : [{ text }]
}

/** Light markup with single marks, as two providers write it: `*bold*`, `_italic_`, backquotes. */
export function readMarks(source: string): Stretch[] {
  const pattern =
    /```([\s\S]+?)```|`([^`\n]+)`|(?<![\p{L}\p{N}])\*(\S(?:[^*\n]*\S)?)\*(?![\p{L}\p{N}])|(?<![\p{L}\p{N}])_(\S(?:[^_\n]*\S)?)_(?![\p{L}\p{N}])/gu
  const stretches: Stretch[] = []
  let at = 0
  for (const match of source.matchAll(pattern)) {
    stretches.push(...plain(source.slice(at, match.index)))
    const code = match[1] ?? match[2]
    if (code !== undefined) stretches.push({ text: code, as: "code" })
    else if (match[3] !== undefined) stretches.push({ text: match[3], as: "bold" })
    else stretches.push({ text: match[4]!, as: "italic" })
    at = match.index + match[0].length
  }
  return [...stretches, ...plain(source.slice(at))]
}

const tags: { [tag: string]: Stretch["as"] } = { b: "bold", i: "italic", code: "code", pre: "code", a: "link" }

/** HTML of the few tags one provider takes; nested formatting shows as the innermost. */
export function readTags(source: string): Stretch[] {
  const stretches: Stretch[] = []
  const open: string[] = []
  for (const piece of source.split(/(<[^<>]+>)/)) {
    const tag = /^<(\/?)([a-z]+)/.exec(piece)
    if (tag?.[1] === "/") open.pop()
    else if (tag) open.push(tag[2]!)
    else if (piece !== "") {
      const text = piece
        .replaceAll("&lt;", "<")
        .replaceAll("&gt;", ">")
        .replaceAll("&quot;", '"')
        .replaceAll("&amp;", "&")
      const as = open.map((one) => tags[one]).findLast((one) => one !== undefined)
      stretches.push(as ? { text, as } : { text })
    }
  }
  return stretches
}
