import { countSegments } from "../../delivery/segments.ts"
import type { OutgoingCall } from "../call.ts"
import type { Look } from "../looks.ts"
import { contentOf, plain, textOf } from "../looks.ts"

/** What a telephone shows, and what it costs. */
export function looks(call: OutgoingCall): Look {
  const content = contentOf(call)
  const said = call.words ?? ""
  const picture = textOf(content.MediaUrl)
  return { words: plain(said), ...(picture ? { picture } : {}), segments: countSegments(said) }
}
