import { storable } from "../../core/message/graphemes.ts"
import { replaceSecrets } from "../seal.ts"

/** Characters of an answer that stay on record. */
const longestKept = 2000

/** Why no answer came from an address of a bot's, in words. */
export function failureWords({ name, message, ...error }: Error & { code?: string }): string {
  if (name === "TimeoutError") return "it did not answer in time"
  if (name === "AbortError") return "the call was broken off"
  const code = error.code ?? (error.cause as { code?: string } | undefined)?.code
  if (code === "ECONNREFUSED") return "nothing answers at its address (ECONNREFUSED)"
  if (code !== undefined) return `it could not be reached (${code})`
  return `it could not be reached: ${storable(message).slice(0, 200)}`
}

/** What an address of a bot's answered, as it may stand on record: no secrets, and not more than a page. */
export function keptWords(text: string, secrets: readonly string[]): string {
  // A little more is looked through than is kept: a secret at the cut would not be found.
  return storable(replaceSecrets(text.slice(0, longestKept * 2), [...secrets], () => "•••").slice(0, longestKept))
}
