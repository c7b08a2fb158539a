import type { Message } from "../message/message.ts"
import { deskWish, listParts, takenPart, waitsPart } from "./desk.ts"

const place = { channel: "quay-slack", place: "CQUAY", command: "waiting" }
const id = "cnv_01m8g8c0qb3ppavmfw1x1qrh3e"
const said = (more: Partial<Message>): Message => ({ event: "choice", place: { address: "1", kind: "group" }, ...more })

test.each<[Partial<Message>, unknown]>([
  [{ choice: { id: `desk:take:${id}` } }, { does: "take", conversation: id }],
  [{ choice: { id: `desk:back:${id}` } }, { does: "give back", conversation: id }],
  [{ command: { name: "waiting", args: "" } }, { does: "list" }],
  [{ choice: { id: `desk:drop:${id}` } }, undefined],
  [{ choice: { id: "desk:take:cnv_'; DROP TABLE" } }, undefined],
  [{ command: { name: "claims", args: "" } }, undefined],
])("%j at the desk asks for %j", (more, wish) => expect(deskWish(said(more), place)).toEqual(wish))

test("what a stranger is called and says is bounded, and no markup", () => {
  const waiting = {
    conversation: id,
    channel: "quay-sms",
    name: "*bold*".repeat(5000),
    words: "[x](http://evil.example)".repeat(5000),
  }
  for (const part of [
    waitsPart(waiting, "http://here"),
    takenPart(waiting, "Tom", true, "http://here"),
    ...listParts(Array(500).fill(waiting)),
  ]) {
    const { text, choices = [] } = part as { text: string; choices?: { label: string }[] }
    expect(text.length).toBeLessThan(2000)
    expect(text).not.toMatch(/(?<!\\)\]\(http:\/\/evil/)
    expect(choices.length).toBeLessThanOrEqual(8)
    for (const { label } of choices) expect([...label].length).toBeLessThanOrEqual(20)
  }
})
