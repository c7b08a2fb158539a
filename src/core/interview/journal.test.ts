import type { Done, Entry, NextStep } from "./journal.ts"
import { backTo, fits, onceName, standing } from "./journal.ts"

const at = "2026-12-01T10:00:00Z"
const journal = (...done: Done[]): Entry[] => done.map((one, index) => ({ n: index + 1, at, ...one }))
const began: Done = { did: "began", turn: {} }
const answered = (value: unknown): Done => ({ did: "answered", kind: "integer", asked: "How many?", value })
const once = (name: string, value: unknown, more: object = {}): Done => ({
  did: "once",
  name,
  key: "k",
  value,
  ...more,
})

test("what the person went back over counts no more; side effects know what they gave and how often they were undone", () => {
  const all = journal(
    began,
    answered(2),
    once("fare", 8, { back: "again" }),
    { did: "went back", to: 2 },
    answered(3),
    once("fare", 12, { back: "again" }),
  )
  const { entries, before, rounds } = standing(all)
  expect(entries.map(({ n }) => n)).toEqual([1, 5, 6])
  expect(before.get(onceName("fare", 1))).toBe(8)
  expect(rounds.get(onceName("fare", 1))).toBe(1)
  const twice = standing([...all, { n: 7, at, did: "went back", to: 5 }])
  expect(twice.rounds.get(onceName("fare", 1))).toBe(2)
  expect(twice.before.get(onceName("fare", 1))).toBe(12)
})

test("back leads to the last answer, unless a side effect stands behind it that must not run again", () => {
  expect(backTo(journal(began))).toBeUndefined()
  expect(backTo(journal(began, answered(1), answered(2)))).toBe(3)
  expect(backTo(journal(began, answered(1), once("book", 1)))).toBeUndefined()
  expect(backTo(journal(began, answered(1), once("fare", 1, { back: "again" })))).toBe(2)
  expect(backTo(journal(began, answered(1), once("book", 1), answered(2)))).toBe(4)
})

const chosen: Done = { did: "answered", kind: "choice", asked: "Where?", value: "holm", ids: ["holm"] }
test.each<[string, Done, NextStep, boolean]>([
  ["the same kind of question", answered(1), { step: "ask", kind: "integer" }, true],
  ["another kind", answered(1), { step: "ask", kind: "date" }, false],
  ["an option that is still there", chosen, { step: "ask", kind: "choice", ids: ["tern", "holm"] }, true],
  ["an option that is gone", chosen, { step: "ask", kind: "choice", ids: ["tern"] }, false],
  ["the same side effect", once("book", 1), { step: "once", name: "book" }, true],
  ["another side effect", once("book", 1), { step: "once", name: "fare" }, false],
  ["something told where a question was", answered(1), { step: "tell" }, false],
  ["a pause", { did: "paused", until: at }, { step: "pause" }, true],
  ["the end where a pause was", { did: "paused", until: at }, { step: "end" }, false],
  ["something remembered", { did: "remembered", where: "state" }, { step: "remember" }, true],
  ["something expected", { did: "expected" }, { step: "expect" }, true],
  ["something told, in other words", { did: "told", said: "a" }, { step: "tell" }, true],
])("a journal and a changed handler: %s", (_name, done, next, fit) => {
  expect(fits({ n: 2, at, ...done }, next)).toBe(fit)
})
