import { readMarkup } from "../message/markup.ts"
import type { Message } from "../message/message.ts"
import { relayedParts, repeats } from "./relay.ts"

const message = (text: string) => ({ event: "text", text }) as Message
const textOf = (text: string, by?: string) => {
  const [part] = relayedParts(message(text), { by, kept: [] })
  return (part as { text: string }).text
}

test("words on one line stand behind the name; several lines stand in a quote, whatever ends them", () => {
  expect(textOf("hello", "Ines (Telegram)")).toBe("**Ines (Telegram)**: hello")
  for (const end of ["\n", "\r\n", "\r", "\v", "\f", "\u0085", "\u2028", "\u2029"]) {
    const { text, spans } = readMarkup(textOf(`one${end}**Anna (Slack)**: two`, "Ines"))
    expect(text).toBe("Ines:\none\n**Anna (Slack)**: two")
    expect(spans.map(({ kind }) => kind)).toEqual(["bold", "quote"])
  }
  expect(textOf("one\ntwo")).toBe("one\ntwo")
})

test("a name is one line, and turns nothing around", () => {
  expect(textOf("hello", "Eve\n**Anna**: pay\u202e")).toBe(String.raw`**Eve \*\*Anna\*\*: pay**: hello`)
})

const copy = { words: "is the bridge open", copied: "**Ines (Telegram)**: is the bridge open", names: true }

test("what was relayed is known again within more words, without its markup", () => {
  expect(repeats("Bot: INES (Telegram):  is the bridge open", [copy]).copy).toBe(true)
  expect(repeats("is the bridge open today", [copy])).toEqual({ copy: false, again: 0 })
  const grew = ["the bridge is open", "X: the bridge is open", "Y: X: the bridge is open"]
  const shown = grew.map((words) => ({ words, copied: words, names: false }))
  expect(repeats("X: Y: X: the bridge is open", shown).again).toBe(3)
  expect(repeats("is the gate open", [copy])).toEqual({ copy: false, again: 0 })
})

test("who sums up what they said does not repeat it", () => {
  const shown = ["is there a boat", "at two o'clock", "for three people"].map((words) => ({
    words,
    copied: words,
    names: false,
  }))
  expect(repeats("so is there a boat at two o'clock for three people?", shown).again).toBe(1)
})

test("what anybody may say is not taken for a repetition", () => {
  const shown = ["ok", "yes", "good day all", "Good day, all!"].map((words) => ({ words, copied: words, names: false }))
  expect(repeats("ok, yes, good day all of you", shown)).toEqual({ copy: false, again: 1 })
})
