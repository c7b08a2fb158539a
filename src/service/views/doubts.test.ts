import type { AttemptRow } from "../../store/messages.ts"
import type { ParkedRow } from "../../store/parked.ts"
import { doubtIn } from "./doubts.ts"

const attempt = (n: number, outcome: string | null, why: string | null = null) =>
  ({ attempt: n, name: "sendMessage", outcome, why, startedAt: new Date(n * 1000) }) as AttemptRow
const unclear = attempt(1, "unclear", "the answer never came")
const parked = (decision: string | null) =>
  ({ cause: "doubt", decision, decidedBy: decision ? "Ada" : null }) as unknown as ParkedRow

test("no doubt where every attempt ended clearly", () => {
  expect(doubtIn([attempt(1, "again"), attempt(2, "accepted")], [])).toBeUndefined()
})

const [taken, refused, underWay] = [attempt(2, "accepted"), attempt(2, "refused"), attempt(2, null)]
const resent = "sent again (onDoubt: resend), and"

test.each<[string, AttemptRow[], ParkedRow[], string, boolean]>([
  ["parked and open", [unclear], [parked(null)], "parked (onDoubt: park), until a person decides", true],
  ["dropped", [unclear], [parked("drop")], "Ada chose to leave it", false],
  ["edited", [unclear], [parked("edit")], "Ada chose to send other words", false],
  ["to be retried", [unclear], [parked("retry")], "Ada chose to send it again: it stands in its line", false],
  ["retried", [unclear, taken], [parked("retry")], "Ada chose to send it again: attempt 2 was taken", false],
  ["to be resent", [unclear], [], `${resent} it stands in its line`, false],
  ["being resent", [unclear, underWay], [], `${resent} attempt 2 is under way`, false],
  ["resent", [unclear, taken], [], `${resent} attempt 2 was taken`, false],
  ["resent and refused", [unclear, refused], [], `${resent} attempt 2 ended as refused`, false],
])("a doubt that was %s", (_name, attempts, items, decided, open) => {
  expect(doubtIn(attempts, items)).toEqual({
    at: "1970-01-01T00:00:01.000Z",
    known: "attempt 1 (sendMessage) was begun, and the answer never came",
    decided,
    open,
  })
})
