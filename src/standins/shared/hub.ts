import { createHmac, randomBytes } from "node:crypto"
import type { FastifyInstance, FastifyRequest } from "fastify"
import type { Post } from "./standin.ts"
import { Refusal } from "./standin.ts"

/** A subscription of an app: where calls go, and the word of the handshake. */
export interface Hook {
  url: string
  verifyToken: string
}

/** JSON as the provider writes it: what is not ASCII, and slashes, stand escaped. */
export function escapedJson(value: unknown): string {
  return JSON.stringify(value)
    .replace(/[\u007f-\uffff]/g, (unit) => `\\u${unit.charCodeAt(0).toString(16).padStart(4, "0")}`)
    .replaceAll("/", "\\/")
}

export function signedPost(hook: Hook, appSecret: string, value: unknown): Post {
  const body = escapedJson(value)
  const digest = createHmac("sha256", appSecret).update(body).digest("hex")
  return {
    url: hook.url,
    headers: { "content-type": "application/json", "x-hub-signature-256": `sha256=${digest}` },
    body,
    repeats: true,
  }
}

/** Calls an address before it is taken; an address that does not answer the handshake is refused. */
export async function handshake(hook: Hook): Promise<void> {
  const challenge = randomBytes(8).toString("hex")
  const url = new URL(hook.url)
  url.searchParams.set("hub.mode", "subscribe")
  url.searchParams.set("hub.verify_token", hook.verifyToken)
  url.searchParams.set("hub.challenge", challenge)
  const answer = await fetch(url, { signal: AbortSignal.timeout(10_000) }).catch(() => undefined)
  const said = await answer?.text()
  if (answer?.status === 200 && said === challenge) return
  throw graphRefusal(
    400,
    100,
    `The callback URL or verify token couldn't be validated. Status: ${answer?.status ?? "none"}`,
  )
}

export function graphRefusal(status: number, code: number, message: string, more: object = {}): Refusal {
  return new Refusal(status, message, {
    error: { message: `(#${code}) ${message}`, type: "OAuthException", code, fbtrace_id: "A-standin", ...more },
  })
}

export function faultRefusal(fault: "429" | "500", seconds: number, rateCode: number): Refusal {
  const made =
    fault === "429"
      ? graphRefusal(429, rateCode, "Rate limit hit")
      : graphRefusal(500, 2, "Service temporarily unavailable")
  return fault === "429" ? new Refusal(429, made.message, made.answer, { "retry-after": String(seconds) }) : made
}

export function bearerOf(headers: { [name: string]: unknown }, query: { access_token?: string }): string {
  return /^Bearer (.+)$/.exec(String(headers.authorization ?? ""))?.[1] ?? query.access_token ?? ""
}

/** A token may be asked about itself: what it is allowed to do. */
export function serveDebugToken(
  app: FastifyInstance,
  permissions: string[],
  known: (request: FastifyRequest) => void,
): void {
  app.get<{ Querystring: { input_token?: string } }>("/:version/debug_token", async (request) => {
    known(request)
    if (request.query.input_token === undefined) throw graphRefusal(400, 100, "The parameter input_token is required")
    return { data: { is_valid: true, type: "SYSTEM_USER", scopes: permissions } }
  })
}
