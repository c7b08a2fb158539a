import type { Knex } from "knex"
import type { Message, Moment, Place } from "../core/message/message.ts"
import { wordsOf } from "../core/message/words.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { faultPoint } from "./faults.ts"
import { newId } from "./ids.ts"
import { releaseOfLane } from "./lines.ts"

/** A time that is over. */
export interface DueTimer {
  id: string
  conversation: string
  channel: string
  interview: string
  mark: string
  what: "time" | "word" | "late" | "reminder"
  simulated: "captured" | "sent" | null
  place: Place
  /** Whether the person wants to be sent nothing, or nothing that starts here. */
  unwanted: boolean
  release: string | null
  /** Milliseconds since the person wrote last. */
  silent: number | null
  /** Milliseconds that are left of it, counted from when what it follows was sent; it is the whole time until then. */
  left: number | null
}

/** What becomes of a time that is over: it comes into its line, waits until another time, or is dropped. */
export type TimerFate = { does: "join"; dropped?: true } | { does: "wait"; until: Date } | { does: "drop" }

/**
 * Takes times that are over, many at once and none twice, and puts a message of each at the end of its conversation's
 * line, in the transaction that forgets it. The lines are locked before the timers, as a turn's commit does it. Held are
 * those whose conversation a person answers, or whose channel is paused.
 */
export async function takeDueTimers(
  database: Database,
  limit: number,
  fateOf: (timer: DueTimer) => Promise<TimerFate>,
): Promise<number> {
  return database.transaction(async (step) => {
    const due = await rows<DueTimer>(
      step,
      `SELECT t.id, t.conversation, w.channel, t.interview, t.mark, t.what, i.simulated,
         jsonb_strip_nulls(jsonb_build_object('address', v.address, 'kind', v.kind, 'title', v.title, 'topic', v.topic)) AS place,
         (v.opted_out IS NOT NULL OR v.no_notices IS NOT NULL) AS unwanted, (${releaseOfLane}) AS release,
         (SELECT extract(epoch FROM clock_timestamp() - m.received_at)::float8 * 1000 FROM messages m WHERE m.conversation = t.conversation AND m.direction = 'in' AND m.event <> 'interview'
          ORDER BY m.position DESC LIMIT 1) AS silent,
         CASE WHEN EXISTS (SELECT 1 FROM outbox o WHERE o.conversation = t.conversation AND o.message = t.said) THEN t.within
         ELSE t.within - (SELECT extract(epoch FROM clock_timestamp() - max(a.at))::float8 * 1000 FROM attempts a
           WHERE a.message = t.said AND a.outcome = 'accepted') END AS left
       FROM (
         -- What is held is left out before it is counted, or a hundred that are held would hold up all others.
         SELECT t.* FROM timers t
         JOIN interviews i ON i.id = t.interview
         JOIN conversations v ON v.id = t.conversation AND v.answered_by = 'bot'
         JOIN channels c ON c.key = v.channel AND c.state = 'on'
         LEFT JOIN contacts k ON k.id = i.who
         WHERE t.due_at <= now() AND k.blocked_at IS NULL ORDER BY t.due_at LIMIT ?
       ) t
       JOIN work w ON w.conversation = t.conversation
       JOIN conversations v ON v.id = t.conversation
       JOIN channels c ON c.key = w.channel
       JOIN interviews i ON i.id = t.interview
       ORDER BY t.conversation, t.due_at
       FOR UPDATE OF w SKIP LOCKED`,
      [limit],
    )
    if (due.length === 0) return 0
    const late = new Set(
      due.filter(({ what, left }) => what === "late" && (left ?? 0) <= 0).map(({ interview }) => interview),
    )
    const joining: (DueTimer & { dropped?: true })[] = []
    const gone: string[] = []
    for (const timer of due) {
      if ((timer.left ?? 0) > 0) {
        await rows(step, "UPDATE timers SET due_at = clock_timestamp() + ? * interval '1 millisecond' WHERE id = ?", [
          timer.left,
          timer.id,
        ])
        continue
      }
      // Where the limit is over too, nobody is reminded of it any more.
      const fate: TimerFate =
        timer.what === "reminder" && late.has(timer.interview) ? { does: "drop" } : await fateOf(timer)
      if (fate.does === "wait")
        await rows(step, "UPDATE timers SET due_at = ? WHERE id = ?", [fate.until.toISOString(), timer.id])
      else gone.push(timer.id)
      if (fate.does === "join") joining.push({ ...timer, ...(fate.dropped ? { dropped: true } : {}) })
    }
    // What another process has taken meanwhile is there no more.
    const taken = await rows<{ id: string }>(step, "DELETE FROM timers WHERE id = ANY(?) RETURNING id", [gone])
    if (FAULTS_BUILT) await faultPoint("timer: due")
    const still = new Set(taken.map(({ id }) => id))
    for (const timer of joining) {
      if (!still.has(timer.id)) continue
      const { interview, mark, what, dropped } = timer
      await joinLine(step, { ...timer, origin: "timer" }, { interview, mark, what, ...(dropped ? { dropped } : {}) })
    }
    return joining.length
  })
}

/** Somebody decided about an interview: that takes its place in the line, like anything else that happens. */
export async function decideInterview(
  database: Database,
  at: { conversation: string; channel: string; place: Place },
  moment: Moment,
): Promise<string> {
  return database.transaction((step) => joinLine(step, { ...at, simulated: null, origin: "person" }, moment))
}

/** Puts an open question again, behind what is in the line. */
export async function askAgain(
  database: Database,
  at: { conversation: string; channel: string; place: Place },
  { id, mark }: { id: string; mark: string },
): Promise<void> {
  await database.transaction((step) =>
    joinLine(step, { ...at, simulated: null, origin: "timer" }, { interview: id, mark, what: "aside" }),
  )
}

interface LineEnd {
  conversation: string
  channel: string
  place: Place
  simulated: "captured" | "sent" | null
  origin: "timer" | "person"
}

async function joinLine(step: Knex.Transaction, end: LineEnd, moment: Moment): Promise<string> {
  const { conversation, channel, place, simulated, origin } = end
  const id = newId("msg")
  const body: Message = { event: "interview", place, moment, ...(simulated ? { simulated } : {}) }
  await rows(
    step,
    `WITH line AS (
       UPDATE work w SET next_position = next_position + 1, last_id = ?,
         due_at = CASE WHEN c.state <> 'on' THEN 'infinity' WHEN due_at > now() AND due_at < 'infinity' AND holder IS NOT NULL THEN due_at ELSE now() END
       FROM channels c WHERE c.key = w.channel AND w.conversation = ? RETURNING next_position - 1 AS position
     )
     INSERT INTO messages (id, channel, conversation, direction, event, position, origin, body, words)
     SELECT ?, ?, ?, 'in', 'interview', line.position, ?, ?, ? FROM line`,
    [id, conversation, id, channel, conversation, origin, JSON.stringify(body), wordsOf(body)],
  )
  return id
}
