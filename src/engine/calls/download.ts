import type { Dispatcher } from "undici"
import { Agent, request } from "undici"
import { guarded, PrivateNetwork, refusePrivate } from "./privateNetworks.ts"

/** Redirects followed at most. */
const mostRedirects = 3

export interface Download {
  content: Buffer
  mime: string
}

/** Why something was not fetched; `again` when another try may bring it. */
export class NotFetched extends Error {
  constructor(
    message: string,
    readonly again: boolean,
  ) {
    super(message)
  }
}

/**
 * Fetches content within a limit of size and time. Private networks are never reached, whatever name, redirect or
 * answer of a name server points there, unless their network is named or the address is the provider's own.
 *
 * @param trusted origins that are the channel's own, such as its apiBase: they may lie anywhere.
 * @param networks that may be reached although they are private, as addresses or in CIDR notation.
 */
export async function download(
  url: string,
  headers: { [name: string]: string },
  options: { limit: number; trusted: string[]; networks: string[] },
): Promise<Download> {
  let next = url
  for (let redirects = 0; redirects <= mostRedirects; redirects++) {
    if (!URL.canParse(next) || !/^https?:$/.test(new URL(next).protocol))
      throw new NotFetched("its address is not an http address", false)
    const at = new URL(next)
    const own = options.trusted.includes(at.origin)
    // What authorises us at one place is nobody else's business.
    const sent = at.origin === new URL(url).origin ? headers : {}
    const answer = await ask(at, sent, own ? undefined : options.networks)
    const { statusCode, body } = answer
    const to = answer.headers.location
    if (statusCode >= 300 && statusCode < 400 && typeof to === "string") {
      await body.dump()
      next = new URL(to, at).href
      continue
    }
    if (statusCode !== 200) {
      await body.dump()
      const gone = statusCode === 404 || statusCode === 410
      throw new NotFetched(`the provider answered ${statusCode}${gone ? ": it is gone" : ""}`, !gone)
    }
    const mime = String(answer.headers["content-type"] ?? "application/octet-stream")
      .split(";")[0]!
      .trim()
      .toLowerCase()
    return { content: await readAll(body, options.limit), mime }
  }
  throw new NotFetched("it is sent on from address to address", false)
}

async function ask(
  at: URL,
  headers: { [name: string]: string },
  networks: string[] | undefined,
): Promise<Dispatcher.ResponseData> {
  try {
    if (networks) refusePrivate(at.hostname, networks)
    return await request(at, {
      headers,
      dispatcher: networks ? guarded(networks) : open,
      headersTimeout: 20_000,
      bodyTimeout: 30_000,
    })
  } catch (error) {
    if ([error, (error as { cause?: unknown }).cause].some((one) => one instanceof PrivateNetwork))
      throw new NotFetched(
        "its address lies in a private network; the channel's setting fetchFrom may name it, if that is meant",
        false,
      )
    const { code, name } = error as { code?: string; name: string }
    throw new NotFetched(`the provider could not be reached (${code ?? name})`, true)
  }
}

const open = new Agent({ connections: 16 })

async function readAll(body: Dispatcher.ResponseData["body"], limit: number): Promise<Buffer> {
  const chunks: Buffer[] = []
  let size = 0
  for await (const chunk of body as AsyncIterable<Buffer>) {
    size += chunk.length
    if (size > limit) {
      body.destroy()
      throw new NotFetched(
        `it is larger than ${Math.round(limit / 1e6)} MB; the channel's setting mediaLimit says how much is kept`,
        false,
      )
    }
    chunks.push(chunk)
  }
  return Buffer.concat(chunks)
}
