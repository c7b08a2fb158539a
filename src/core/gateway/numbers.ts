import type { CountryCode } from "libphonenumber-js/min"
import { parsePhoneNumberFromString } from "libphonenumber-js/min"

/**
 * A number in E.164, whatever prefix and form a gateway gives it. Nothing when it is none: a short code stays a short
 * code, a name has no return path.
 */
export function e164(given: string, country: string | undefined): string | undefined {
  const bare = given.trim().replace(/^[a-z]+:/i, "")
  // Most come so already; asking the tables of all countries takes longer than everything else in reading a call.
  if (/^\+[1-9]\d{6,14}$/.test(bare)) return bare
  // Gateways that write digits alone mean the whole number, unless it begins as one would dial it at home.
  const international = /^[1-9]\d{9,14}$/.test(bare) ? `+${bare}` : undefined
  for (const one of [international, bare].filter((text) => text !== undefined)) {
    const read = parsePhoneNumberFromString(one, country as CountryCode | undefined)
    if (read?.isPossible()) return read.number
  }
  return undefined
}

/** The way a number is reached where a gateway knows several, such as `whatsapp` in `whatsapp:+447700900123`. */
export function wayIn(address: string): string | undefined {
  return /^([a-z][a-z0-9]*):(?=\+?\d)/i.exec(address.trim())?.[1]?.toLowerCase()
}

/** Short codes are reached as they are written. */
export function isShortCode(given: string): boolean {
  return /^\d{3,8}$/.test(given.trim())
}
