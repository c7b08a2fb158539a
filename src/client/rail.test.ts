import { railText, railWord } from "./rail.ts"
import type { Stop } from "./types.ts"

const names = ["received", "verified", "parsed", "routed", "handled", "sent", "delivered"] as const
const rail = (...states: Stop["state"][]): Stop[] => names.map((stop, at) => ({ stop, state: states[at] ?? "ahead" }))

test.each<[string, Stop[], string, string]>([
  ["answered", rail("done", "done", "done", "done", "done", "done", "untold"), "●─●─●─●─●─●─○", "answered"],
  ["under way", rail("done", "done", "done", "under way"), "●─●─●─◐─○─○─○", "waiting"],
  ["broken where it stopped", rail("done", "stopped"), "●─✕ ○─○─○─○─○", "refused"],
  [
    "not needed",
    rail("done", "done", "done", "skipped", "skipped", "skipped", "skipped"),
    "●─●─●─·─·─·─·",
    "no message",
  ],
])("a rail %s", (_name, stops, text, word) => {
  expect(railText(stops)).toBe(text)
  expect(railWord(stops).word).toBe(word)
})
