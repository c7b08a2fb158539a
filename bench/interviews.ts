import { memoryOf } from "./stage.ts"
import type { WobbetSubject } from "./stage.ts"

/** What interviews cost: answers a second early and late in one, and with a crowd that waits in the middle of theirs. */
export interface InterviewCost {
  /** Messages a second that a handler without questions answers, in the same run. */
  baseline: number[]
  /** Answers a second at questions 3 to 5 and 48 to 50, by hosts that have the interview at hand. */
  early: number[]
  late: number[]
  /** The same at questions 3 to 5, with the interviews read from their journals. */
  cold: number[]
  /** Interviews that wait, and megabytes of the service before and after they were begun. */
  waiting: number
  before: number
  after: number
}

/** Some people write something, one message each; gives how many a second were handled. */
type Say = (text: string, people: number, firstPerson: number) => Promise<number>

/** Fewer than hosts keep at hand. */
const few = 800

/** @param crowd people who stand in the middle of an interview */
export async function measureInterviews(
  subject: WobbetSubject,
  crowd: number,
  say: Say,
  tell: (text: string) => void,
): Promise<InterviewCost> {
  const [talkers, askers, others] = [10_000_000, 20_000_000, 30_000_000]
  const baseline: number[] = []
  await say("count", few, talkers)
  for (let round = 0; round < 3; round++) baseline.push(await say("count", few, talkers))
  await say("ask me", few, askers)
  const rates: number[] = []
  for (let question = 1; question <= 50; question++) rates.push(await say("2", few, askers))
  tell(`  ${crowd} other people are asked something, and do not answer …`)
  const before = memoryOf(subject.pid)
  await say("ask me", crowd, others)
  await new Promise((done) => setTimeout(done, 3000))
  const after = memoryOf(subject.pid)
  const cold: number[] = []
  await say("2", few, others)
  for (let round = 0; round < 3; round++) cold.push(await say("2", few, others + (round + 1) * few))
  return { baseline, early: rates.slice(2, 5), late: rates.slice(47, 50), cold, waiting: crowd, before, after }
}
