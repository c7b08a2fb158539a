import { createHmac } from "node:crypto"

/**
 * The headers that sign a call to somebody else's address, after the open Standard Webhooks specification. Of several
 * keys each gives a signature: while a key is exchanged, whoever checks may have either.
 *
 * @param at seconds since 1970
 * @param keys as they are kept: `whsec_` and the key in base64, or any other text, which is the key itself
 */
export function webhookHeaders(
  id: string,
  at: number,
  body: string,
  keys: readonly string[],
): { [name: string]: string } {
  const signatures = keys.map(
    (key) => `v1,${createHmac("sha256", bytesOf(key)).update(`${id}.${at}.${body}`).digest("base64")}`,
  )
  return {
    "webhook-id": id,
    "webhook-timestamp": String(at),
    ...(signatures.length > 0 ? { "webhook-signature": signatures.join(" ") } : {}),
  }
}

const marked = /^whsec_[A-Za-z0-9+/]+={0,2}$/

function bytesOf(key: string): Buffer {
  return marked.test(key) ? Buffer.from(key.slice("whsec_".length), "base64") : Buffer.from(key, "utf8")
}
