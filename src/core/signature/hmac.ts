import { createHmac, timingSafeEqual } from "node:crypto"

/** An HMAC compared in time that tells nothing about it. `given` is text in the encoding named. */
export function sameHmac(
  given: string,
  made: {
    algorithm: "sha1" | "sha256" | "sha512"
    key: string
    encoding: "hex" | "base64"
    over: (string | Uint8Array)[]
  },
): boolean {
  const hmac = createHmac(made.algorithm, made.key)
  for (const piece of made.over) hmac.update(piece)
  const expected = hmac.digest()
  const stated = Buffer.from(given, made.encoding)
  return stated.length === expected.length && timingSafeEqual(stated, expected)
}
