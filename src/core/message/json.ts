import { parse } from "lossless-json"

const utf8 = new TextDecoder("utf-8", { fatal: false, ignoreBOM: false })

/**
 * Reads JSON as providers send it. Whole numbers too long for a JavaScript number come back as text, digit for digit,
 * since they are ids. Throws SyntaxError on anything that is not JSON in UTF-8.
 */
export function readJson(body: Uint8Array): unknown {
  const text = utf8.decode(body)
  // Only a body with a run of 16 digits can hold such a number; the lossless reader is ten times slower.
  if (!/\d{16}/.test(text)) return JSON.parse(text)
  return parse(text, null, {
    parseNumber: (digits) => {
      const value = Number(digits)
      return /^-?\d+$/.test(digits) && !Number.isSafeInteger(value) ? digits : value
    },
    // The last one counts, as JSON.parse has it.
    onDuplicateKey: ({ newValue }) => newValue,
  })
}

export type JsonObject = { [key: string]: unknown }

export function isObject(value: unknown): value is JsonObject {
  return typeof value === "object" && value !== null && !Array.isArray(value)
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
