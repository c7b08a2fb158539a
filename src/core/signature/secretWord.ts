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
  const received = [...given]
  const agreedWord = [...agreed]
  const at = agreedWord.findIndex((character, n) => received[n] !== character)
  const first =
    at === -1
      ? received.length > agreedWord.length
        ? `the received one is longer, from position ${agreedWord.length}`
        : "they are the same"
      : at >= received.length
        ? `the received one ends after position ${received.length}`
        : `they differ first at position ${at + 1}`
  return `the received one has ${received.length} characters, this channel's ${agreedWord.length}; ${first}`
}

function digest(word: string): Buffer {
  return createHash("sha256").update(word, "utf8").digest()
}
