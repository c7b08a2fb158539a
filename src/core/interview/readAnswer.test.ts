import fc from "fast-check"
import { anyText } from "../../../tests/support/anyText.ts"
import type { Message } from "../message/message.ts"
import type { AnswerKind, Question } from "./question.ts"
import { readAnswer } from "./readAnswer.ts"

const place = { address: "1", kind: "direct" as const }
const said = (text: string): Message => ({ event: "text", place, text })
const reading = { languages: ["en"], zone: "Europe/Lisbon", now: "2026-12-01T10:00:00Z", country: "GB" }
const options = [
  { id: "holm", label: "Holm Island" },
  { id: "tern", label: "Tern Point" },
  { id: "rock", label: "Seal Rock" },
]
const read = (question: Omit<Question, "text">, message: Message | string, languages = ["en"]) => {
  const given = typeof message === "string" ? said(message) : message
  const answer = readAnswer({ text: "?", ...question }, given, { ...reading, languages })
  return "value" in answer ? answer.value : answer.no.reason
}

const cases: [AnswerKind, string, unknown, string[]?][] = [
  ["text", "  Ana Marsh ", "Ana Marsh"],
  ["text", " ", "unread"],
  ["number", "two and a half? no, 3.5", "unread"],
  ["number", "about 2,5 metres", 2.5],
  ["integer", "two", 2],
  ["integer", "for 3 please", 3],
  ["integer", "2.5", "unread"],
  ["integer", "٣", 3],
  ["integer", "2 or 3", "unread"],
  ["integer", "zwei", 2, ["de", "en"]],
  ["date", "tomorrow", "2026-12-02"],
  ["date", "friday at half past two", "2026-12-04"],
  ["date", "3 May", "2027-05-03"],
  ["date", "the 3rd", "2026-12-03"],
  ["date", "the 31st", "2026-12-31"],
  ["date", "the 32nd", "unread"],
  ["date", "friday or saturday", "unread"],
  ["date", "am Freitag", "2026-12-04", ["de", "en"]],
  ["date", "whenever", "unread"],
  ["time", "half past two", "02:30"],
  ["time", "14:20", "14:20"],
  ["time", "at 14", "14:00"],
  ["time", "2pm", "14:00"],
  ["time", "later", "unread"],
  ["choice", "2", "tern"],
  ["choice", "the second one", "tern"],
  ["choice", "the last", "rock"],
  ["choice", "holm island please", "holm"],
  ["choice", "seal", "rock"],
  ["choice", "HOLM ISLAND!", "holm"],
  ["choice", "4", "unread"],
  ["choice", "holm island or tern point", "unread"],
  ["choice", "der zweite", "tern", ["de"]],
  ["choice", "a primeira", "holm", ["pt"]],
  ["choice", "den ersten bitte", "holm", ["de"]],
  ["choices", "1 and 3", ["holm", "rock"]],
  ["choices", "seal rock, holm island", ["holm", "rock"]],
  ["choices", "tern, and the moon", "unread"],
  ["yesNo", "yep", true],
  ["yesNo", "Yes please!", true],
  ["yesNo", "no thanks", false],
  ["yesNo", "yes... no", "unread"],
  ["yesNo", "👍", true],
  ["yesNo", "ja", true],
  ["yesNo", "perhaps", "unread"],
  ["yesNo", "não", false, ["pt"]],
  ["phone", "it is 07700 900123", "+447700900123"],
  ["phone", "none", "unread"],
  ["email", "write to ana@ternpoint.example", "ana@ternpoint.example"],
  ["list", "a red umbrella, two gloves and a hat", ["a red umbrella", "two gloves", "a hat"]],
  ["media", "look", "unread"],
  ["location", "here", "unread"],
]

// The languages stand within a row: Jest takes a parameter that a row has no value for as its callback.
test.each(cases.map((row) => [row[0], row[1], row] as const))("%s: %p", (kind, text, [, , wanted, languages]) => {
  expect(read({ kind, options }, text, languages)).toEqual(wanted)
})

test("bounds: what lies beyond them is no answer, and the reason says so", () => {
  const seats = { kind: "integer" as const, min: 1, max: 8 }
  expect([read(seats, "0"), read(seats, "9"), read(seats, "eight")]).toEqual(["too small", "too large", 8])
  expect(read({ kind: "date", from: "today" }, "yesterday")).toBe("too small")
  expect(read({ kind: "date", from: "today", to: "2026-12-24" }, "25 December")).toBe("too large")
  expect(read({ kind: "time", from: "09:00" }, "8:30")).toBe("too small")
  expect(read({ kind: "choices", options, max: 1 }, "1, 2")).toBe("too many")
  expect(read({ kind: "list", min: 2 }, "one thing")).toBe("too few")
})

test("a button, a shared contact, a location and pictures are answers", () => {
  expect(read({ kind: "choice", options }, { event: "choice", place, choice: { id: "tern" } })).toBe("tern")
  expect(read({ kind: "choice", options }, { event: "choice", place, choice: { id: "moon" } })).toBe("unread")
  const both = { id: "rock", ids: ["rock", "holm"] }
  expect(read({ kind: "choices", options }, { event: "choice", place, choice: both })).toEqual(["holm", "rock"])
  expect(read({ kind: "yesNo" }, { event: "choice", place, choice: { id: "no" } })).toBe(false)
  const ana = { name: "Ana", phone: "+447700900123" }
  expect(read({ kind: "phone" }, { event: "contact", place, contact: ana })).toBe("+447700900123")
  const here = { latitude: 1, longitude: 2 }
  expect(read({ kind: "location" }, { event: "location", place, location: here })).toEqual(here)
  const media = [{ kind: "image" as const, ref: "a" }]
  expect(read({ kind: "media", media: ["image"] }, { event: "media", place, media })).toEqual(media)
  expect(read({ kind: "media", media: ["voice"] }, { event: "media", place, media })).toBe("unread")
})

test("nothing that is said breaks the reading, however long or strange", () => {
  const kinds: AnswerKind[] = [
    "text",
    "number",
    "integer",
    "date",
    "time",
    "choice",
    "choices",
    "yesNo",
    "phone",
    "list",
  ]
  fc.assert(
    fc.property(fc.constantFrom(...kinds), anyText(300), (kind, text) => {
      const answer = readAnswer({ kind, text: "?", options }, said(text), reading)
      expect("value" in answer || "no" in answer).toBe(true)
    }),
    { numRuns: 300 },
  )
  const worst = `${"1 and ".repeat(20_000)}, ${"9".repeat(20_000)}`
  for (const kind of kinds) expect(readAnswer({ kind, text: "?", options }, said(worst), reading)).toBeDefined()
})
