import type { Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { KnownChannel } from "../channels.ts"
import type { Assembled } from "./assemble.ts"
import type { Renderer } from "./renderer.ts"

/**
 * What takes the place of a message that was shown growing. Where its provider refuses that, the message is removed, and
 * the answer is said in a new message.
 */
export async function orInstead(
  renderer: Renderer,
  done: Assembled,
  replies: ReplyPart[],
  { known, place, draft }: { known: KnownChannel; place: Place; draft: string },
): Promise<void> {
  const part = replies.find((one) => "to" in one && one.to === draft)
  const message = done.out.find(({ body }) => (body as { to?: string }).to === draft)
  if (!part || !message) return
  const [first, ...more] = message.calls
  if (part.part !== "amend" || part.text === undefined || !first) {
    message.calls = message.calls.map((call) => ({ ...call, mayFail: true }))
    return
  }
  const parts: ReplyPart[] = [
    { part: "remove", to: draft },
    { part: "text", text: part.text },
  ]
  const [removed, said] = await renderer.reply(parts, place, known)
  const instead = [
    ...removed!.rendered.calls.map((call) => ({ ...call, mayFail: true as const })),
    ...said!.rendered.calls,
  ]
  // What needs more than one message cannot take the place of one.
  message.calls = more.length > 0 ? instead : [{ ...first, mayFail: true, ends: true }, ...instead]
}
