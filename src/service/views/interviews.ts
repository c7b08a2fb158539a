import { standing } from "../../core/interview/journal.ts"
import type { Waits } from "../../core/interview/standing.ts"
import { shorten } from "../../core/message/graphemes.ts"
import type { InterviewView } from "../../client/types.ts"
import type { Database } from "../../store/database.ts"
import type { InterviewRow } from "../../store/interviews.ts"
import { interviewsIn, journalOf } from "../../store/interviews.ts"

/** Interviews shown of a conversation: those that run, and the last that ended. */
const shown = 10

/** Where the interviews of a conversation stand, with what was answered. */
export async function interviewViews(database: Database, conversation: string): Promise<InterviewView[]> {
  const found = await interviewsIn(database, conversation, shown)
  return Promise.all(found.map(async (row) => viewOf(row, await answersOf(database, row))))
}

function viewOf(row: InterviewRow, answers: InterviewView["answers"]): InterviewView {
  const { id, who, name, handler, route, release, ended, why } = row
  return {
    id,
    who,
    name,
    handler,
    route,
    release,
    stands: row.stands as InterviewView["stands"],
    waits: row.waits && waitsWords(row.waits),
    until: row.dueAt?.toISOString() ?? null,
    answers,
    begunAt: row.begunAt.toISOString(),
    endedAt: row.endedAt?.toISOString() ?? null,
    ended,
    why,
  }
}

function waitsWords(waits: Waits): string {
  if (waits.for === "answer") return waits.question.text
  return waits.for === "time" ? "a pause" : `something that meets ${shorten(JSON.stringify(waits.when), 120)}`
}

async function answersOf(database: Database, { id }: InterviewRow): Promise<InterviewView["answers"]> {
  const { entries } = standing(await journalOf(database, id))
  return entries.flatMap((entry) =>
    entry.did === "answered" ? [{ question: shorten(entry.asked, 200), value: entry.value ?? null }] : [],
  )
}
