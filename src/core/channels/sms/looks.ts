import { countSegments } from "../../delivery/segments.ts"
import type { OutgoingCall } from "../kind.ts"
import type { Look } from "../looks.ts"
import { contentOf, fieldsOf, plain, textOf } from "../looks.ts"

/** What a telephone shows, and what it costs. */
export function looks(call: OutgoingCall): Look {
  const content = contentOf(call)
  const oma = textOf(fieldsOf(fieldsOf(content.outboundSMSMessageRequest).outboundSMSTextMessage).message)
  const said = textOf(content.Body) || textOf(content.text) || oma
  const picture = textOf(content.MediaUrl)
  return { words: plain(said), ...(picture ? { picture } : {}), segments: countSegments(said) }
}
