import { createHash, createHmac, timingSafeEqual } from "node:crypto"
import { sameWord } from "./secretWord.ts"

export type Algorithm = "sha1" | "sha256" | "sha512"
export type Encoding = "hex" | "base64"

/** What a proof may cover, as it was seen here. */
export interface Seen {
  /** Scheme, host, port, path and query, as far as this service knows how it was called. */
  address: string
  body: Uint8Array
}

/** How a call states that it is genuine, as data, so that its neighbours can be tried when it does not match. */
export type Proof = WordProof | DigestProof

/** A word agreed on beforehand comes back. */
export interface WordProof {
  by: "word"
  /** The secret's name in the channel. */
  secret: string
  given: string
  /** What the given word is compared with, where that is more than the secret itself. */
  agreed?(secret: string): string
}

/** A hash, keyed or with the secret among what is hashed. */
export interface DigestProof {
  by: "digest"
  secret: string
  given: string
  algorithm: Algorithm
  encoding: Encoding
  /** What of a call goes in, in words; decides which neighbours are tried. */
  covers: { address?: boolean; body?: boolean; form?: boolean }
  digest(secret: string, seen: Seen, algorithm: Algorithm): Buffer
}

/** Compares without telling by its time where they differ. */
export function sameDigest(given: string, encoding: Encoding, expected: Buffer): boolean {
  const stated = Buffer.from(given, encoding)
  return stated.length === expected.length && timingSafeEqual(stated, expected)
}

export function proves(proof: Proof, secret: string, seen: Seen): boolean {
  if (proof.by === "word") return sameWord(proof.given, proof.agreed ? proof.agreed(secret) : secret)
  return sameDigest(proof.given, proof.encoding, proof.digest(secret, seen, proof.algorithm))
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
