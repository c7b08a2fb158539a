import type { Algorithm, Encoding } from "./hmac.ts"
import { sameDigest } from "./hmac.ts"
import { sameWord } from "./secretWord.ts"

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

export function proves(proof: Proof, secret: string, seen: Seen): boolean {
  if (proof.by === "word") return sameWord(proof.given, proof.agreed ? proof.agreed(secret) : secret)
  return sameDigest(proof.given, proof.encoding, proof.digest(secret, seen, proof.algorithm))
}
