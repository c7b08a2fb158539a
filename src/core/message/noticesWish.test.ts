import type { Message } from "./message.ts"
import { noticesWish } from "./noticesWish.ts"

const said = (text: string, more: Partial<Message> = {}): Message => ({
  event: "text",
  text,
  place: { address: "1", kind: "direct" },
  ...more,
})

test.each<[Message, Message["wish"]]>([
  [said("STOP"), "no notices"],
  [said(" stop. "), "no notices"],
  [said("Unsubscribe!"), "no notices"],
  [said("start"), "notices again"],
  [said("", { event: "command", command: { name: "start", args: "" } }), "notices again"],
  [said("stop it"), undefined],
  [said("STOP", { place: { address: "1", kind: "group" } }), undefined],
  // Where the word has a meaning of its own, that counts.
  [said("STOP", { wish: "stop" }), undefined],
  [said(`${" ".repeat(100_000)}stop`), undefined],
])("%j asks for %s", (message, wish) => expect(noticesWish(message)).toBe(wish))
