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

/** How a wrong word differs, without giving either away; nothing when it is simply another word. */
export function nearWord(given: string, agreed: string): string | undefined {
  if (sameWord(given.trim(), agreed.trim())) {
    const side = given.trim() === given ? "the secret on our side" : "the word in the call"
    return `It would match without the blanks or line ends around ${side}.`
  }
  if (sameWord(given.toLowerCase(), agreed.toLowerCase())) return "It would match but for upper and lower case."
  return undefined
}

function digest(word: string): Buffer {
  return createHash("sha256").update(word, "utf8").digest()
}
