import type { Outcome } from "../../core/channels/kind.ts"
import type { InlineAnswer, OutgoingCall, ProviderAnswer } from "../../core/channels/call.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Place } from "../../core/message/message.ts"
import { inlineBody } from "../calls/fill.ts"
import { perform } from "../calls/perform.ts"
import type { KnownChannel } from "../channels.ts"
import type { Uploads } from "../media/uploads.ts"
import type { HeldCalls } from "./heldCalls.ts"

/** A call that is due, its attempt already on record. */
export interface Begun {
  message: string
  conversation: string
  position: number
  channel: string
  place: Place
  calls: OutgoingCall[]
  /** Which of the message's calls. */
  call: number
  attempt: number
  tries: number
  doubted: boolean
}

/** Our own name for a call: the message's, and which of its calls. */
export function markOf({ message, call }: Pick<Begun, "message" | "call">): string {
  return `${message}.${call}`
}

/** Makes a call to the provider, after what it needs to have there. */
export async function makeCall(
  uploads: Uploads,
  call: OutgoingCall,
  known: KnownChannel,
  begun: Begun,
): Promise<ProviderAnswer> {
  const uploaded: string[] = []
  for (const upload of call.uploads ?? []) {
    const kept = await uploads.ref(known, upload)
    if ("answer" in kept) return kept.answer
    uploaded.push(kept.ref)
  }
  return perform(call, known.channel, begun.place.address, { mark: markOf(begun), uploaded })
}

/** Gives a reply back inside the call that brought the message; undefined where it must go by a call of our own. */
export async function answerInline(
  heldCalls: HeldCalls,
  inline: InlineAnswer,
  known: KnownChannel,
  begun: Begun,
): Promise<Outcome | undefined> {
  const { channel } = known
  const answered = await heldCalls.answer(inline.answers ?? [], (call) => {
    const fieldOfCall = (where: string) => kindOf(channel.kind).inline?.(channel)?.field(call, where)
    const given = { placeAddress: begun.place.address, mark: markOf(begun), fieldOfCall }
    return { type: inline.type, body: inlineBody(inline, channel, given) }
  })
  if (answered === "written") return { outcome: "accepted" }
  if (answered === "broken") return { outcome: "unclear", why: "the gateway hung up while it was answered" }
  if (inline.late === "api") return undefined
  return {
    outcome: "refused",
    cause: "too late",
    why: `it was ready too late: the gateway waits ${inline.within} s for an answer inside its call, and takes none by other ways`,
    remedy:
      "Make the handler quicker, or give the profile an outbound and inline.late: api. Drop it, or answer when the person writes again.",
  }
}
