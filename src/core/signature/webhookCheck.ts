import { timingSafeEqual } from "node:crypto"
import { webhookHeaders } from "./webhookSignature.ts"

/** Seconds that a call's clock may differ from ours. */
const tolerance = 300

/** Why a call is not genuine that should be signed after the Standard Webhooks specification; nothing where it is. */
export function webhookFault(
  headers: { [name: string]: string | undefined },
  body: string,
  key: string,
  now: Date,
): string | undefined {
  const { "webhook-id": id, "webhook-timestamp": at, "webhook-signature": given } = headers
  if (id === undefined || at === undefined || given === undefined)
    return "it has no webhook-id, webhook-timestamp and webhook-signature"
  if (!/^\d{1,12}$/.test(at) || Math.abs(now.getTime() / 1000 - Number(at)) > tolerance)
    return "its webhook-timestamp is more than five minutes from now"
  const expected = Buffer.from(webhookHeaders(id, Number(at), body, [key])["webhook-signature"]!)
  const fits = given.split(" ").some((one) => {
    const bytes = Buffer.from(one)
    return bytes.length === expected.length && timingSafeEqual(bytes, expected)
  })
  return fits ? undefined : "its webhook-signature is made with another key, or its body was changed"
}

/** Whether a word that a call says, such as a bearer token, is the one agreed on. */
export function saysWord(given: string, word: string): boolean {
  const [one, other] = [Buffer.from(given), Buffer.from(word)]
  return one.length === other.length && timingSafeEqual(one, other)
}
