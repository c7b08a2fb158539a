import type { Message } from "../message/message.ts"
import type { Difference, Entry } from "./journal.ts"
import type { AnswerKind, Leaving, Question } from "./question.ts"

/** What an interview waits for, or how it ended. JSON. */
export type Stands =
  | { waits: "answer"; question: Question }
  /** @property until ISO 8601, by the bot's clock where it has no offset; or milliseconds */
  | { waits: "time"; until: string | { for: number } }
  | { waits: "word"; when: object; within?: number }
  | { ended: "done" }
  | { ended: "left"; to: Leaving; say?: string }

/** What happened that an interview waited for. */
export type Happened =
  /** @property given set where the author named it as the way out: no check refuses it */
  | { what: "answered"; kind: AnswerKind; value: unknown; ids?: string[]; given?: true }
  | { what: "time" }
  /** @property message what was expected; nothing where the time for it was over */
  | { what: "word"; message?: Message }
  | { what: "back" }

/** What is to be run of an interview. */
export interface InterviewOrder {
  id: string
  /** The release it runs with. */
  release: string
  /** Left on the interview by this run, and asked for by the next: a host whose interview has it needs no journal. */
  mark: string
  /** Absent for one that begins. */
  goesOn?: { mark: string; happened: Happened; journal?: Entry[] }
  /** Whether it is run once more from its journal, to see whether it does the same. */
  twice?: boolean
  /** Set where none may begin any more: one runs within another already. */
  tooDeep?: boolean
}

/** What holds for an interview as a whole, as its author wrote it. */
export interface InterviewSettings {
  within?: number
  remind?: number
  tries?: number
  texts?: { [moment: string]: string }
}

/** What running an interview came to. */
export interface InterviewResult {
  id: string
  /** What joins its journal. */
  entries: Entry[]
  stands: Stands
  settings: InterviewSettings
  /** Why the answer will not do, by the author's own check. */
  refused?: string
  /** Set where there is no question to go back to. */
  noWayBack?: true
  remember: { state?: { [field: string]: unknown }; contact?: { [field: string]: unknown } }
  /** Set where it was not begun, since one runs within another already. */
  tooDeep?: true
  /** Set where it has more behind it than an interview may have, in words for its author. */
  tooLong?: string
  /** Set where the journal does not fit the handler any more. */
  differs?: Difference & { line?: string }
  /** Set where it did something else when it was run once more: something in it is neither recorded nor the same each time. */
  unsteady?: Difference & { line?: string }
}

/** What becomes of an interview whose handler is gone, or is none any more. */
export function goneInterview(id: string): { interview: InterviewResult } {
  const differs = { n: 1, was: "its beginning", is: "is no interview any more" }
  return { interview: { id, entries: [], stands: { ended: "done" }, settings: {}, remember: {}, differs } }
}
