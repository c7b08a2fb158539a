import fc from "fast-check"
import type { InterviewResult } from "./interviewRun.ts"
import { resultFault } from "./resultFault.ts"

const question = { kind: "choice", text: "Where?", options: [{ id: "holm", label: "Holm Island" }] }
const good = {
  id: "itv_1",
  entries: [{ n: 1, did: "began" }],
  stands: { waits: "answer", question },
  settings: {},
  remember: {},
}
const faultOf = (more: object) => resultFault({ ...good, ...more } as unknown as InterviewResult)

test.each<[string, object]>([
  ["a question", {}],
  ["a pause", { stands: { waits: "time", until: { for: 1000 } } }],
  ["a pause until an instant", { stands: { waits: "time", until: "2026-12-03T18:00" } }],
  ["something expected", { stands: { waits: "word", when: { phrase: "thanks" } } }],
  ["an end", { stands: { ended: "left", to: { route: "help" }, say: "Well." } }],
])("what may be kept: %s", (_name, more) => expect(faultOf(more)).toBeUndefined())

test.each<[string, object]>([
  ["no question", { stands: { waits: "answer" } }],
  ["a question without words", { stands: { waits: "answer", question: { ...question, text: " " } } }],
  ["a choice without options", { stands: { waits: "answer", question: { kind: "choice", text: "Where?" } } }],
  [
    "an option twice",
    { stands: { waits: "answer", question: { ...question, options: [...question.options, ...question.options] } } },
  ],
  ["a pause until never", { stands: { waits: "time", until: "never" } }],
  ["a condition as long as a book", { stands: { waits: "word", when: { phrase: "boat ".repeat(2000) } } }],
  ["too many entries", { entries: Array(501).fill({ n: 1 }) }],
  ["entries too long", { entries: [{ n: 1, said: "a".repeat(300_000) }] }],
  ["nothing at all", { stands: undefined }],
])("what may not: %s", (_name, more) => expect(faultOf(more)).toEqual(expect.any(String)))

test("whatever a handler makes up is a fault in words, and never an error", () => {
  fc.assert(
    fc.property(fc.anything(), (stands) => void faultOf({ stands })),
    { numRuns: 200 },
  )
})
