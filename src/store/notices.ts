import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { faultPoint } from "./faults.ts"
import { newId } from "./ids.ts"
import { batch } from "./unnest.ts"

/** What an application told. */
export interface NoticeRow {
  id: string
  bot: string
  lane: string
  release: string
  type: string
  source: string | null
  key: string
  data: { [field: string]: unknown }
  by: string
  at: Date
  state: "new" | "spread"
}

const noticeColumns = "n.id, n.bot, n.lane, n.release, n.type, n.source, n.key, n.data, n.by, n.at, n.state"

/**
 * Keeps what an application told, once for its key. Gives its id; and whether the key was used before, for the same or for
 * something else.
 */
export async function keepNotice(
  database: Database,
  notice: Omit<NoticeRow, "id" | "at" | "state"> & { fingerprint: string },
): Promise<{ id: string; was: "new" | "known" | "other" }> {
  const { bot, lane, release, type, source, key, data, by, fingerprint } = notice
  const [kept] = await rows<{ id: string }>(
    database,
    `INSERT INTO notices (id, bot, lane, release, type, source, key, fingerprint, data, by)
     VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?::jsonb, ?) ON CONFLICT (bot, lane, key) DO NOTHING RETURNING id`,
    [newId("ntc"), bot, lane, release, type, source, key, fingerprint, JSON.stringify(data), by],
  )
  if (kept) return { id: kept.id, was: "new" }
  const [before] = await rows<{ id: string; fingerprint: string }>(
    database,
    "SELECT id, fingerprint FROM notices WHERE bot = ? AND lane = ? AND key = ?",
    [bot, lane, key],
  )
  return { id: before!.id, was: before!.fingerprint === fingerprint ? "known" : "other" }
}

/** Whom a notice is told, or who is meant and not known. */
export interface RecipientChange {
  rule: number
  contact?: string | undefined
  named?: string | undefined
  conversation?: string | undefined
  channel?: string | undefined
  together: string
  state: "waiting" | "unmatched" | "refused"
  why?: string | undefined
  /** ISO 8601. */
  due?: string | undefined
}

/**
 * Takes the oldest notice of which it is not known yet whom it is told, and keeps whom, in one transaction: whatever
 * process ends meanwhile, each is told once. Gives whether there was one.
 */
export async function spreadNotice(
  database: Database,
  whom: (notice: NoticeRow, step: Database) => Promise<RecipientChange[]>,
): Promise<boolean> {
  return database.transaction(async (step) => {
    const [notice] = await rows<NoticeRow>(
      step,
      `SELECT ${noticeColumns} FROM notices n WHERE n.state = 'new' ORDER BY n.id LIMIT 1 FOR UPDATE SKIP LOCKED`,
    )
    if (!notice) return false
    const found = await whom(notice, step)
    if (FAULTS_BUILT) await faultPoint("notice: recipients found")
    for (let at = 0; at < found.length; at += 1000) {
      const part = batch(
        "r",
        found.slice(at, at + 1000).map((one) => ({ ...one, id: newId("rcp") })),
        {
          id: "text",
          rule: "integer",
          contact: "text",
          named: "text",
          conversation: "text",
          channel: "text",
          together: "text",
          state: "text",
          why: "text",
          due: "timestamptz",
        },
      )
      await rows(
        step,
        `INSERT INTO recipients (id, notice, rule, contact, named, conversation, channel, together, state, why, due_at)
         SELECT r.id, ?, r.rule, r.contact, r.named, r.conversation, r.channel, r.together, r.state, r.why, r.due FROM ${part.sql}
         ON CONFLICT DO NOTHING`,
        [notice.id, ...part.values],
      )
    }
    await rows(step, "UPDATE notices SET state = 'spread' WHERE id = ?", [notice.id])
    return true
  })
}

/** Somebody who is to be told. */
export interface DueRecipient {
  id: string
  notice: string
  rule: number
  contact: string | null
  conversation: string
  channel: string
  together: string
  at: Date
  /** Milliseconds since then, by the database's clock. */
  age: number
  bot: string
  lane: string
  release: string
  type: string
  data: { [field: string]: unknown }
}

const dueColumns = `r.id, r.notice, r.rule, r.contact, r.conversation, r.channel, r.together, r.at, (extract(epoch FROM clock_timestamp() - r.at) * 1000)::float8 AS age, n.bot, n.lane, n.release, n.type, n.data`

/** What becomes of those who are to be told now. */
export type RecipientFate =
  | { is: "said"; message: string }
  | { is: "refused" | "failed"; why: string }
  /** @property until ISO 8601 */
  | { is: "later"; until: string; why: string }

/**
 * Takes those who are to be told now, with all else that is told the same place together, and does so, all in one
 * transaction: what is said is in its line exactly if that is on record here. Gives how many.
 */
export async function tellDue(
  database: Database,
  limit: number,
  tell: (together: DueRecipient[], step: Database) => Promise<RecipientFate>,
): Promise<number> {
  return database.transaction(async (step) => {
    const due = await rows<DueRecipient>(
      step,
      `SELECT ${dueColumns} FROM (
         SELECT * FROM recipients WHERE state = 'waiting' AND due_at <= now() ORDER BY due_at, id LIMIT ? FOR UPDATE SKIP LOCKED
       ) r JOIN notices n ON n.id = r.notice ORDER BY r.conversation, r.id`,
      [limit],
    )
    const done = new Set<string>()
    const said: { id: string; message: string }[] = []
    for (const first of due) {
      if (done.has(first.id)) continue
      const all = (await withOthers(step, first)).filter(({ id }) => !done.has(id))
      all.forEach(({ id }) => done.add(id))
      const fate = await tell(all, step)
      if (fate.is === "said") said.push(...all.map(({ id }) => ({ id, message: fate.message })))
      else
        await keepFate(
          step,
          all.map(({ id }) => id),
          fate,
        )
    }
    if (said.length > 0) {
      const part = batch("d", said, { id: "text", message: "text" })
      await rows(
        step,
        `UPDATE recipients r SET state = 'said', why = NULL, due_at = NULL, message = d.message FROM ${part.sql} WHERE r.id = d.id`,
        part.values,
      )
    }
    if (FAULTS_BUILT && due.length > 0) await faultPoint("notice: about to be said")
    return due.length
  })
}

/** With all else that becomes one with it; nothing else does where its notice gathers nothing. */
async function withOthers(step: Database, first: DueRecipient): Promise<DueRecipient[]> {
  if (first.together.startsWith(first.notice)) return [first]
  return rows<DueRecipient>(
    step,
    `SELECT ${dueColumns} FROM (
       SELECT * FROM recipients WHERE state = 'waiting' AND conversation = ? AND together = ? ORDER BY id LIMIT 200 FOR UPDATE SKIP LOCKED
     ) r JOIN notices n ON n.id = r.notice ORDER BY r.id`,
    [first.conversation, first.together],
  )
}

async function keepFate(step: Database, ids: string[], fate: Exclude<RecipientFate, { is: "said" }>): Promise<void> {
  if (fate.is === "later")
    await rows(step, "UPDATE recipients SET due_at = ?, why = ? WHERE id = ANY(?)", [fate.until, fate.why, ids])
  else
    await rows(step, "UPDATE recipients SET state = ?, why = ?, due_at = NULL WHERE id = ANY(?)", [
      fate.is,
      fate.why,
      ids,
    ])
}

/** Milliseconds until somebody is to be told; undefined where nobody is. */
export async function nextRecipient(database: Database): Promise<number | undefined> {
  const [found] = await rows<{ left: number | null }>(
    database,
    "SELECT (extract(epoch FROM min(due_at) - now()) * 1000)::float8 AS left FROM recipients WHERE state = 'waiting'",
  )
  return found?.left ?? undefined
}

/** How many of a notice's recipients stand how. */
export interface NoticeCounts {
  waiting: number
  said: number
  refused: number
  failed: number
  unmatched: number
}

const counted = (["waiting", "said", "refused", "failed", "unmatched"] as const)
  .map((state) => `(count(*) FILTER (WHERE r.state = '${state}'))::int AS ${state}`)
  .join(", ")

/** Notices, the newest first. */
export async function listNotices(
  database: Database,
  { limit, below, type }: { limit: number; below?: string | undefined; type?: string | undefined },
): Promise<(NoticeRow & NoticeCounts)[]> {
  return rows(
    database,
    `SELECT ${noticeColumns}, c.* FROM (
       SELECT * FROM notices WHERE true ${below === undefined ? "" : "AND id < ?"} ${type === undefined ? "" : "AND type = ?"}
       ORDER BY id DESC LIMIT ?
     ) n CROSS JOIN LATERAL (SELECT ${counted} FROM recipients r WHERE r.notice = n.id) c ORDER BY n.id DESC`,
    [...(below === undefined ? [] : [below]), ...(type === undefined ? [] : [type]), limit],
  )
}

export async function noticeById(database: Database, id: string): Promise<(NoticeRow & NoticeCounts) | undefined> {
  const [found] = await rows<NoticeRow & NoticeCounts>(
    database,
    `SELECT ${noticeColumns}, c.* FROM notices n
     CROSS JOIN LATERAL (SELECT ${counted} FROM recipients r WHERE r.notice = n.id) c WHERE n.id = ?`,
    [id],
  )
  return found
}

/** Somebody a notice is told, as people look at it. */
export interface RecipientRow {
  id: string
  contact: string | null
  named: string | null
  name: string | null
  conversation: string | null
  channel: string | null
  state: string
  why: string | null
  due: Date | null
  message: string | null
}

export async function recipientsOf(
  database: Database,
  notice: string,
  { limit, after, state }: { limit: number; after?: string | undefined; state?: string | undefined },
): Promise<RecipientRow[]> {
  return rows(
    database,
    `SELECT r.id, r.contact, r.named, coalesce(k.name, v.title) AS name, r.conversation, r.channel, r.state, r.why, r.due_at AS due, r.message
     FROM recipients r LEFT JOIN contacts k ON k.id = r.contact LEFT JOIN conversations v ON v.id = r.conversation
     WHERE r.notice = ? ${after === undefined ? "" : "AND r.id > ?"} ${state === undefined ? "" : "AND r.state = ?"}
     ORDER BY r.id LIMIT ?`,
    [notice, ...(after === undefined ? [] : [after]), ...(state === undefined ? [] : [state]), limit],
  )
}
