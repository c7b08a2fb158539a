import { deathCounted } from "./claims.ts"
import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"

export type Duty = "send" | "poll"

/** Takes or renews what this process may do alone for a channel. Gives the channels it holds, and the poll's offset. */
export async function takeLeases(
  database: Database,
  duty: Duty,
  channels: string[],
  holder: string,
  seconds: number,
): Promise<{ channel: string; offset: string | null; taken: boolean }[]> {
  if (channels.length === 0) return []
  return rows(
    database,
    `WITH wanted AS (
       INSERT INTO leases (channel, duty) SELECT unnest(?::text[]), ? ON CONFLICT DO NOTHING
     ), open AS (
       SELECT channel, holder FROM leases WHERE duty = ? AND channel = ANY(?) AND (holder = ? OR holder IS NULL OR until < now())
       ORDER BY channel FOR UPDATE SKIP LOCKED
     )
     UPDATE leases l SET holder = ?, until = now() + ?::int * interval '1 second'
     FROM open WHERE l.channel = open.channel AND l.duty = ?
     RETURNING l.channel, l.poll_offset AS "offset", open.holder IS DISTINCT FROM l.holder AS taken`,
    [channels, duty, duty, channels, holder, holder, seconds, duty],
  )
}

/** Gives up one duty, for one channel or for all: a process that stops polling may still be sending. */
export async function giveUpLeases(database: Database, holder: string, duty: Duty, channel?: string): Promise<void> {
  await rows(
    database,
    `UPDATE leases SET holder = NULL, until = NULL WHERE holder = ? AND duty = ?${channel === undefined ? "" : " AND channel = ?"}`,
    channel === undefined ? [holder, duty] : [holder, duty, channel],
  )
}

export interface ProcessRow {
  id: string
  machine: string
  pid: number
}

/** Says that this process lives. Gives the others that have said so on its machine. */
export async function beat(database: Database, self: ProcessRow): Promise<ProcessRow[]> {
  return hotRows<ProcessRow>(
    database,
    `WITH beat AS (
       INSERT INTO processes (id, machine, pid) VALUES (?, ?, ?) ON CONFLICT (id) DO UPDATE SET seen_at = now()
     )
     SELECT id, machine, pid FROM processes WHERE machine = ? AND id <> ?`,
    [self.id, self.machine, self.pid, self.machine, self.id],
  )
}

export async function processesOn(database: Database, machine: string): Promise<ProcessRow[]> {
  return rows<ProcessRow>(database, "SELECT id, machine, pid FROM processes WHERE machine = ?", [machine])
}

/**
 * Frees at once what processes held that are known to have ended, instead of waiting for their claims to run out.
 *
 * @param ended whether they ended without stopping in order
 */
export async function buryProcesses(database: Database, ids: string[], ended: boolean): Promise<void> {
  await database.transaction(async (step) => {
    await rows(step, "UPDATE leases SET holder = NULL, until = NULL WHERE holder = ANY(?)", [ids])
    await rows(
      step,
      `UPDATE work SET holder = NULL, due_at = now()${ended ? `, deaths = ${deathCounted}` : ""} WHERE holder = ANY(?)`,
      [ids],
    )
    // Endpoints they were asking are asked again.
    await rows(
      step,
      "UPDATE waits SET due_at = now() WHERE kind <> 'queue' AND leased_by = ANY(?) AND answer IS NULL",
      [ids],
    )
    await rows(step, "DELETE FROM endpoints WHERE holder = ANY(?)", [ids])
    await rows(step, "DELETE FROM processes WHERE id = ANY(?)", [ids])
  })
}
