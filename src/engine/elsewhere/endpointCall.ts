import { askedEvent } from "../../core/elsewhere/asked.ts"
import type { AskedTurn } from "../../core/elsewhere/asked.ts"
import type { EndpointAnswer } from "../../core/elsewhere/answer.ts"
import { longestAnswer, readAnswer } from "../../core/elsewhere/answer.ts"
import { webhookHeaders } from "../../core/signature/webhookSignature.ts"
import type { ElsewhereCall } from "../../core/elsewhere/note.ts"
import { Exchange, TooLarge } from "../calls/exchange.ts"
import { failureWords, keptWords } from "../calls/failureWords.ts"
import { guarded, PrivateNetwork, refusePrivate } from "../calls/privateNetworks.ts"
import { wallClock } from "../process/wallClock.ts"

/** Redirects followed, and only to the same host. */
const mostRedirects = 5
const redirects: ReadonlySet<number> = new Set([301, 302, 307, 308])
/** Connections to one endpoint. */
const connections = 256

/** A call to an endpoint, with all it takes. */
export interface EndpointCall {
  address: string
  turn: AskedTurn
  answer: { to: string; token: string; until: string }
  /** By which it is signed. */
  keys: readonly string[]
  /** What must not stand on record. */
  secrets: readonly string[]
  /** Milliseconds it may take. */
  limit: number
  /** Private networks it may lie in. */
  networks: string[]
  signal?: AbortSignal
}

/** What an endpoint's call came to. @property down whether that says that the endpoint is not well */
export interface EndpointCame {
  came: EndpointAnswer
  calls: ElsewhereCall[]
  down: boolean
}

/** Posts a turn to an endpoint, and reads what it answers within its limits of time and size. Throws nothing. */
export async function callEndpoint(asked: EndpointCall): Promise<EndpointCame> {
  const begun = wallClock("signature")
  const start = performance.now()
  const body = askedEvent(asked.turn, asked.answer, begun)
  const signed = webhookHeaders(asked.turn.id, Math.floor(begun.getTime() / 1000), body, asked.keys)
  const headers = { "content-type": "application/json", accept: "application/json", "user-agent": "wobbet", ...signed }
  const call: ElsewhereCall = { to: asked.address, at: begun.toISOString(), came: "" }
  const done = (came: EndpointAnswer, down: boolean): EndpointCame => {
    call.took = Math.round(performance.now() - start)
    call.came = came.is === "answer" ? "answered" : came.is === "later" ? "answers later" : came.why
    return { came, calls: [call], down }
  }
  try {
    let address = new URL(asked.address)
    for (let followed = 0; ; followed++) {
      const left = asked.limit - Math.round(performance.now() - start)
      const { status, headers: given, body: words } = await exchanged(asked, address, headers, body, left)
      call.status = status
      const to = given.location
      if (!redirects.has(status) || to === undefined) {
        if (words !== "") call.answer = keptWords(words, asked.secrets)
        const came = readAnswer({ status, headers: given, body: words }, wallClock("signature"))
        return done(came, came.is === "again")
      }
      if (followed === mostRedirects)
        return done(
          { is: "unfit", why: `it sends on from address to address, more than ${mostRedirects} times` },
          false,
        )
      const next = URL.canParse(to, address.href) ? new URL(to, address) : undefined
      if (next?.origin !== address.origin)
        return done(
          { is: "unfit", why: `it answered ${status}, which leads to another host; that is not followed` },
          false,
        )
      address = next
    }
  } catch (error) {
    if (error instanceof TooLarge) return done({ is: "unfit", why: error.message }, false)
    if ([error, (error as { cause?: unknown }).cause].some((one) => one instanceof PrivateNetwork))
      return done(
        { is: "unfit", why: `${new PrivateNetwork().message}; the setting WOBBET_PRIVATE_NETWORKS may name that` },
        false,
      )
    return done({ is: "again", why: failureWords(error as Error) }, true)
  }
}

async function exchanged(
  { networks, signal }: EndpointCall,
  address: URL,
  headers: { [name: string]: string },
  body: string,
  left: number,
) {
  refusePrivate(address.hostname, networks)
  const exchange = new Exchange(Math.max(left, 1), longestAnswer, signal)
  const { origin, pathname, search } = address
  guarded(networks, connections).dispatch({ origin, path: pathname + search, method: "POST", headers, body }, exchange)
  return exchange.answer
}
