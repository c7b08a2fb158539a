import type { Message } from "./message.ts"
import { standsAlone, together } from "./gather.ts"

const place = { address: "1", kind: "direct" as const }
const said = (text: string, more: Partial<Message> = {}): Message => ({ event: "text", place, text, ...more })

test("several messages read as one: texts on lines, media together, the last one's id", () => {
  const image = { kind: "image" as const, ref: "a" }
  const one = together([
    said("I found", { providerId: "1" }),
    said("an umbrella", { event: "media", media: [image], providerId: "2" }),
  ])
  expect(one).toMatchObject({ event: "media", text: "I found\nan umbrella", media: [image], providerId: "2" })
})

test("every contact card sent in one go is there, and the link that brought the person", () => {
  const card = (name: string) => said("", { event: "contact", contact: { name } })
  const one = together([said("hello", { referral: { ref: "poster" } }), card("Ada"), card("Tom")])
  expect(one).toMatchObject({ contacts: [{ name: "Ada" }, { name: "Tom" }], referral: { ref: "poster" } })
})

test("a single message stays as it is", () => {
  const one = said("boat")
  expect(together([one])).toBe(one)
})

test("commands, choices and forms stand for themselves", () => {
  expect(standsAlone(said("", { event: "form" }))).toBe(true)
  expect(standsAlone(said("/book", { event: "command" }))).toBe(true)
  expect(standsAlone(said("boat"))).toBe(false)
})
