import { createHash } from "node:crypto"

/** What marks a token among choice ids; an id that happens to begin so is swapped as well. */
export const tokenMark = "~"

/** The id itself where it fits into so many bytes, else a short token that stands for it; the same id, the same token. */
export function choiceToken(id: string, bytes: number): { token: string; swapped: boolean } {
  if (Buffer.byteLength(id) <= bytes && !id.startsWith(tokenMark)) return { token: id, swapped: false }
  return { token: tokenMark + createHash("sha256").update(id).digest("base64url").slice(0, 22), swapped: true }
}
