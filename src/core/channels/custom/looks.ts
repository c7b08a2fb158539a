import type { OutgoingCall } from "../call.ts"
import type { Look } from "../looks.ts"
import { plain } from "../looks.ts"

export function looks(call: OutgoingCall): Look {
  return { words: plain(call.words ?? "") }
}
