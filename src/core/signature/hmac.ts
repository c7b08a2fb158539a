import { createHash, createHmac, timingSafeEqual } from "node:crypto"

export type Algorithm = "sha1" | "sha256" | "sha512"
export type Encoding = "hex" | "base64"

/** An HMAC compared in time that tells nothing about it. `given` is text in the encoding named. */
export function sameHmac(
  given: string,
  made: { algorithm: Algorithm; key: string; encoding: Encoding; over: (string | Uint8Array)[] },
): boolean {
  return sameDigest(given, made.encoding, hmacOf(made.algorithm, made.key, made.over))
}

/** Compares without telling by its time where they differ. */
export function sameDigest(given: string, encoding: Encoding, expected: Buffer): boolean {
  const stated = Buffer.from(given, encoding)
  return stated.length === expected.length && timingSafeEqual(stated, expected)
}

export function hmacOf(algorithm: Algorithm, key: string, pieces: (string | Uint8Array)[]): Buffer {
  const hmac = createHmac(algorithm, key)
  for (const piece of pieces) hmac.update(piece)
  return hmac.digest()
}

/** Pieces sorted by their characters, joined and hashed: the secret is one of them. */
export function sortedHash(algorithm: Algorithm, pieces: string[]): Buffer {
  return createHash(algorithm)
    .update([...pieces].sort((a, b) => (a < b ? -1 : a > b ? 1 : 0)).join(""))
    .digest()
}
