import { parse } from "lossless-json"
import { storableJson } from "./graphemes.ts"

/**
 * Reads JSON as providers send it. Whole numbers too long for a JavaScript number come back as text, digit for digit,
 * since they are ids. Throws SyntaxError on anything that is not JSON in UTF-8.
 */
export function readJson(body: Uint8Array): unknown {
  return readText(textOf(body))
}

/** The same, fit to be stored: NUL and halves of characters, which only escapes can bring, become U+FFFD. */
export function readStorableJson(body: Uint8Array): unknown {
  const text = textOf(body)
  const read = readText(text)
  // Walking through every value takes a third of the time of parsing them; hardly any call needs it.
  return text.includes("\\u") && /\\u(?:0000|[dD][89a-fA-F])/.test(text) ? storableJson(read) : read
}

function textOf(body: Uint8Array): string {
  const text = Buffer.from(body.buffer, body.byteOffset, body.byteLength).toString("utf8")
  return text.charCodeAt(0) === 0xfeff ? text.slice(1) : text
}

/** How deep JSON from outside may go; what providers send goes down to about ten. */
const deepestRead = 100
/** Characters up to which a text cannot be nested so deeply that reading it takes long. */
const shallow = 10_000

function readText(text: string): unknown {
  if (text.length > shallow && isNestedDeeper(text, deepestRead))
    throw new SyntaxError(`it is nested more than ${deepestRead} levels deep`)
  // Only a body with a number of 16 digits can hold one that is too long; the lossless reader is ten times slower.
  if (!hasLongNumber(text) || !/(?:^|[:[,\s-])\d{16}/.test(text)) return JSON.parse(text)
  return parse(text, null, {
    parseNumber: (digits) => {
      const value = Number(digits)
      return /^-?\d+$/.test(digits) && !Number.isSafeInteger(value) ? digits : value
    },
    // The last one counts, as JSON.parse has it.
    onDuplicateKey: ({ newValue }) => newValue,
  })
}

/** Whether 16 digits stand in a row. One of them stands at every sixteenth place, so only those are looked at. */
function hasLongNumber(text: string): boolean {
  const digit = (at: number) => text.charCodeAt(at) >= 48 && text.charCodeAt(at) <= 57
  for (let at = 15; at < text.length; at += 16) {
    if (!digit(at)) continue
    let from = at
    let to = at
    while (digit(from - 1)) from--
    while (digit(to + 1)) to++
    if (to - from >= 15) return true
  }
  return false
}

/** Whether brackets in a JSON text are nested deeper than so many levels. One pass, whatever the text is. */
export function isNestedDeeper(text: string, levels: number): boolean {
  let depth = 0
  let quoted = false
  for (let at = 0; at < text.length; at++) {
    const unit = text.charCodeAt(at)
    if (quoted) {
      if (unit === 0x5c) at++
      else if (unit === 0x22) quoted = false
    } else if (unit === 0x22) quoted = true
    else if (unit === 0x5b || unit === 0x7b) {
      if (++depth > levels) return true
    } else if (unit === 0x5d || unit === 0x7d) depth--
  }
  return false
}

export type JsonObject = { [key: string]: unknown }

export function isObject(value: unknown): value is JsonObject {
  return typeof value === "object" && value !== null && !Array.isArray(value)
}

/** How deep, and how many values, something a stranger made up may go; no form or order that people fill in comes near. */
const deepest = 8
const mostValues = 1000

/**
 * Something of a provider's that is taken over as it is. What lies deeper is left out, and so is what comes after many
 * values: whoever writes it down or walks through it later must not run out of stack.
 */
export function bounded(value: unknown): unknown {
  let left = mostValues
  const copy = (from: unknown, depth: number): unknown => {
    if (typeof from !== "object" || from === null) return from
    if (depth >= deepest) return null
    if (Array.isArray(from)) return from.slice(0, left).flatMap((one) => (left-- > 0 ? [copy(one, depth + 1)] : []))
    const fields: [string, unknown][] = []
    for (const key in from) if (left-- > 0) fields.push([key, copy((from as JsonObject)[key], depth + 1)])
    return Object.fromEntries(fields)
  }
  return copy(value, 0)
}

/** A field that should be an object; anything else reads as absent. */
export function objectAt(from: unknown, key: string): JsonObject | undefined {
  const value = isObject(from) ? from[key] : undefined
  return isObject(value) ? value : undefined
}

export function listAt(from: unknown, key: string): unknown[] {
  const value = isObject(from) ? from[key] : undefined
  return Array.isArray(value) ? value : []
}

/** A field that should be text; empty text reads as absent. */
export function textAt(from: unknown, key: string): string | undefined {
  const value = isObject(from) ? from[key] : undefined
  return typeof value === "string" && value !== "" ? value : undefined
}

export function numberAt(from: unknown, key: string): number | undefined {
  const value = isObject(from) ? from[key] : undefined
  return typeof value === "number" && Number.isFinite(value) ? value : undefined
}

/** An id, sent as a number or as text, always read as text. */
export function idAt(from: unknown, key: string): string | undefined {
  const value = isObject(from) ? from[key] : undefined
  if (typeof value === "string" && value !== "") return value
  return typeof value === "number" && Number.isFinite(value) ? String(value) : undefined
}

/** A text of digits as the number it is; whatever would lose a digit stays a text. */
export function exactNumber(text: string): number | string {
  const value = Number(text)
  return /^-?\d+$/.test(text) && Number.isSafeInteger(value) ? value : text
}
