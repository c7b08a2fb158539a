import type { Message } from "../../message/message.ts"
import { withoutEnd } from "../../message/trimmed.ts"

const wishes: { [word: string]: NonNullable<Message["wish"]> } = {
  STOP: "stop",
  STOPALL: "stop",
  UNSUBSCRIBE: "stop",
  CANCEL: "stop",
  END: "stop",
  QUIT: "stop",
  OPTOUT: "stop",
  REVOKE: "stop",
  START: "start",
  UNSTOP: "start",
  // An answer like any other, but from somebody who had opted out.
  YES: "maybe start",
  HELP: "help",
  INFO: "help",
}

/** Characters of such a word with all that people write around it. */
const longestWish = 100

/** What a text asks of the sending itself, when the word stands alone in it. */
export function wishIn(text: string): Message["wish"] {
  // Nothing longer is such a word: a pattern that looks for an end takes long where there is none.
  if (text.length > longestWish) return undefined
  const word = withoutEnd(text.trim(), ".!").toUpperCase()
  return Object.hasOwn(wishes, word) ? wishes[word] : undefined
}
