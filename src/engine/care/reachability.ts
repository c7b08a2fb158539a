import { randomBytes } from "node:crypto"
import { TooLarge } from "../calls/exchange.ts"
import { look } from "../calls/perform.ts"
import type { Seal } from "../seal.ts"

/** The request header by which this service recognises its own question, and the answer's that proves it. */
export const probeHeader = "x-wobbet-probe"
export const proofHeader = "x-wobbet-proof"

/** Milliseconds the way from outside may take. */
const patience = 6000

/** Bytes of the answer that are read: whatever answers there may be anybody's. */
const longestAnswer = 64 * 1024

/** What stands under a public address. */
export type WayIn = { open: true; says: string } | { open: false; says: string; remedy: string }

/** What this service answers to a probe, whatever else it answers: only one with the same seal key can. */
export function proofOf(seal: Seal, nonce: string): string {
  return seal.sign(`probe ${nonce.slice(0, 100)}`)
}

/** Calls a channel's public address from outside and sees whether this service answers there. */
export async function lookIn(inlet: string, key: string, seal: Seal): Promise<WayIn> {
  const nonce = randomBytes(12).toString("hex")
  const { host, hostname, protocol } = new URL(inlet)
  const blocked = (says: string, remedy: string): WayIn => ({ open: false, says, remedy })
  const set = `Set the right one: WOBBET_PUBLIC_URL, or for this channel "wobbet channel change ${key} --set publicUrl=…".`
  try {
    const headers = { [probeHeader]: nonce, accept: "text/plain" }
    const answer = await look(inlet, headers, { within: patience, most: longestAnswer })
    const body = answer.body.slice(0, 2000)
    const proof = answer.headers[proofHeader]
    if (proof === proofOf(seal, nonce)) {
      if (answer.status === 200 && body.includes(key))
        return { open: true, says: `our address leads into this service (${inlet})` }
      return blocked(
        `${host} leads to this service, but not to this inlet: ${new URL(inlet).pathname} is answered with ${answer.status}`,
        `Something in between changes the path. Let it pass /in/${key} on as it is, or set publicUrl to the address without what it adds.`,
      )
    }
    if (proof !== undefined)
      return blocked(`another Wobbet service answers at ${host}, not this one`, `Let ${host} lead here. ${set}`)
    if (answer.status >= 300 && answer.status < 400) {
      const to = answer.headers.location ?? "elsewhere"
      return blocked(
        `${inlet} is redirected to ${to}, and providers do not follow`,
        `Enter the address that answers itself. ${set}`,
      )
    }
    const who = answer.headers.server ?? /<title>([^<]{1,60})/i.exec(body)?.[1] ?? "it does not say what it is"
    return blocked(
      `something else answers at ${host}: ${answer.status} (${who})`,
      `Let it pass ${new URL(inlet).pathname} on to this service, or name another address. ${set}`,
    )
  } catch (error) {
    if (error instanceof TooLarge)
      return blocked(`something else answers at ${host}: ${error.message}`, `Name the address of this service. ${set}`)
    const code = codeOf(error)
    if (code === "ENOTFOUND" || code === "EAI_AGAIN")
      return blocked(`the name ${hostname} is not known`, `Is it spelled right, and is its DNS record made? ${set}`)
    if (code === "ECONNREFUSED")
      return blocked(
        `nothing listens at ${host}`,
        `Is the proxy or tunnel running, and on this port? Without a public address: "wobbet bring", or polling where the provider has it. ${set}`,
      )
    if (/CERT|SELF_SIGNED|UNABLE_TO_VERIFY|ERR_TLS/.test(code))
      return blocked(
        `the certificate of ${host} is not accepted (${certificateFault(code)})`,
        "Providers refuse it as this service does: get one from a public authority for exactly this name.",
      )
    if (code === "EPROTO" || /^ERR_SSL/.test(code))
      return blocked(
        `${host} does not speak ${protocol === "https:" ? "https" : "http"} on this port`,
        `Correct the scheme or the port. ${set}`,
      )
    if ((error as Error).name === "TimeoutError" || code === "UND_ERR_CONNECT_TIMEOUT")
      return blocked(
        `${host} does not answer within ${patience / 1000} seconds`,
        'Does a firewall drop what comes from outside? Open the port, or use "wobbet bring", which needs none.',
      )
    return blocked(`${inlet} cannot be called: ${code || (error as Error).message}`, set)
  }
}

function certificateFault(code: string): string {
  if (code === "CERT_HAS_EXPIRED") return "it has expired"
  if (code.includes("ALTNAME")) return "it is for another name"
  if (code.includes("SELF_SIGNED")) return "it is signed by itself"
  return "its issuer is not known"
}

function codeOf(error: unknown): string {
  const { code, cause } = error as { code?: unknown; cause?: { code?: unknown; cause?: { code?: unknown } } }
  return String(code ?? cause?.code ?? cause?.cause?.code ?? "")
}
