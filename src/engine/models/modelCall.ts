import type { ModelCame } from "../../core/model/answer.ts"
import { AnswerReader } from "../../core/model/answer.ts"
import { storable } from "../../core/message/graphemes.ts"
import { failureWords } from "../calls/failureWords.ts"
import { guarded, PrivateNetwork, refusePrivate } from "../calls/privateNetworks.ts"
import { Streamed } from "./streamed.ts"
import { wallClock } from "../process/wallClock.ts"
import { withoutEnd } from "../../core/message/trimmed.ts"

/** Bytes of an answer: tokens stream with a hundred times their own length around them. */
const longestAnswer = 4 * 1024 * 1024
/** Connections to one model server. */
const connections = 1024

/** One request to a model server. */
export interface ModelCall {
  /** The base address. */
  address: string
  body: string
  /** Its bearer token. */
  key: string | undefined
  /** Milliseconds it may take, and between two pieces of its answer. */
  within: number
  stall: number
  networks: string[]
  signal: AbortSignal
  /** Told what it has said so far. */
  grows?: ((text: string) => void) | undefined
}

/** @property reached whether the server had it, so that it may have cost something */
export interface ModelCalled {
  came: ModelCame
  status?: number
  reached: boolean
  /** What it said, as far as it came. */
  text: string
}

/** Where a model server is asked. */
export function completionsOf(address: string): URL {
  return new URL(`${withoutEnd(address, "/")}/chat/completions`)
}

/** Asks a model server once. Throws nothing. */
export async function callModel(call: ModelCall): Promise<ModelCalled> {
  const { origin, pathname, hostname } = completionsOf(call.address)
  let reader: AnswerReader | undefined
  let status: number | undefined
  const failed = (came: ModelCame, reached: boolean): ModelCalled => ({
    came,
    reached,
    text: "",
    ...(status === undefined ? {} : { status }),
  })
  try {
    refusePrivate(hostname, call.networks)
    const streamed = new Streamed(
      { within: Math.max(call.within, 1), stall: call.stall, most: longestAnswer },
      {
        begins(given, headers) {
          status = given
          reader = new AnswerReader(given, headers)
        },
        hears(text) {
          reader!.feed(text)
          if (reader!.text !== "") call.grows?.(reader!.text)
          return reader!.over
        },
      },
      call.signal,
    )
    const headers = {
      "content-type": "application/json",
      accept: "text/event-stream, application/json",
      "user-agent": "wobbet",
      ...(call.key === undefined ? {} : { authorization: `Bearer ${call.key}` }),
    }
    guarded(call.networks, connections).dispatch(
      { origin, path: pathname, method: "POST", headers, body: call.body },
      streamed,
    )
    const ended = await streamed.end
    if (ended.ended === "cut" && ended.large) return failed({ is: "unfit", why: ended.why }, true)
    if (!reader) return failed({ is: "again", why: noAnswer(ended), down: true }, true)
    const came = reader.end(wallClock("signature"), ended.ended === "cut")
    // Why it was cut says more than that it was.
    const why = ended.ended === "cut" && came.is === "again" && status === 200 ? { why: ended.why } : {}
    return { came: { ...came, ...why } as ModelCame, status: status!, reached: true, text: storable(reader.text) }
  } catch (error) {
    const named = [error, (error as { cause?: unknown }).cause].some((one) => one instanceof PrivateNetwork)
    if (named)
      return failed(
        { is: "unfit", why: `${new PrivateNetwork().message}; the setting WOBBET_PRIVATE_NETWORKS may name that` },
        false,
      )
    const aborted = (error as Error).name === "AbortError"
    return failed({ is: "again", why: failureWords(error as Error), down: !aborted }, aborted)
  }
}

function noAnswer(ended: { ended: "whole" } | { ended: "cut"; why: string }): string {
  return ended.ended === "cut" ? ended.why : "it did not answer"
}
