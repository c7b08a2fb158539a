import { createHash, timingSafeEqual } from "node:crypto"

/**
 * Compares a word a provider sent with the one agreed on, in time that tells nothing about either: both are hashed
 * first, so that their lengths do not show.
 */
export function sameWord(given: string, agreed: string): boolean {
  return timingSafeEqual(digest(given), digestOfAgreed(agreed))
}

/** The agreed words are few and the same for every call. */
const agreedDigests = new Map<string, Buffer>()

function digestOfAgreed(agreed: string): Buffer {
  let known = agreedDigests.get(agreed)
  if (!known) {
    if (agreedDigests.size > 1000) agreedDigests.clear()
    known = digest(agreed)
    agreedDigests.set(agreed, known)
  }
  return known
}

/** How a wrong word of a handshake differs: both lengths and where first, never the words. */
export function wordDifference(given: string, agreed: string): string {
  const theirs = [...given]
  const ours = [...agreed]
  const at = ours.findIndex((character, n) => theirs[n] !== character)
  const first =
    at === -1
      ? theirs.length > ours.length
        ? `theirs goes on after position ${ours.length}`
        : "they are the same"
      : at >= theirs.length
        ? `theirs ends after position ${theirs.length}`
        : `they differ first at position ${at + 1}`
  return `theirs has ${theirs.length} characters, ours ${ours.length}; ${first}`
}

function digest(word: string): Buffer {
  return createHash("sha256").update(word, "utf8").digest()
}
