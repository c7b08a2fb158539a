import type { Message } from "./message.ts"
import { withoutEnd } from "./trimmed.ts"

/**
 * STOP or UNSUBSCRIBE alone, said to the bot itself on a kind of channel where the law gives such words no meaning: it
 * counts against what starts from us, never against an answer. START takes it back.
 */
export function noticesWish({ event, text, command, place, wish }: Message): Message["wish"] {
  if (wish !== undefined || place.kind !== "direct") return undefined
  if (event === "command") return command?.name === "start" ? "notices again" : undefined
  // Nothing longer is such a word.
  if (event !== "text" || text === undefined || text.length > 40) return undefined
  const word = withoutEnd(text.trim(), ".!").toUpperCase()
  if (word === "STOP" || word === "UNSUBSCRIBE") return "no notices"
  return word === "START" ? "notices again" : undefined
}
