import type { Identity } from "../core/channels/kind.ts"
import type { Forwarding } from "./brought.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { newId } from "./ids.ts"
import type { Learning } from "./samples.ts"

export interface ChannelRow {
  key: string
  kind: string
  settings: { [name: string]: unknown }
  sealed: { [name: string]: string }
  /** Secrets that were replaced and still verify calls. */
  former: { [name: string]: string }
  state: "on" | "paused" | "locked out"
  reason: string | null
  remedy: string | null
  /** Whether it is locked out for its account's state, and resumes when that is good again. */
  for_state: boolean
  bot: string | null
  lane: string
  identity: Identity | null
  checked_at: Date | null
  created_at: Date
  learning: Learning | null
  bringing: Forwarding | null
  /** Which secret the whole address was shown with. */
  address_shown: string | null
  /** When its gateway's queue was last asked with success. */
  fetched_at: Date | null
}

/** Notes that a channel's queue was asked with success; once a minute is enough. */
export async function noteFetched(database: Database, key: string): Promise<void> {
  await rows(
    database,
    "UPDATE channels SET fetched_at = now() WHERE key = ? AND (fetched_at IS NULL OR fetched_at < now() - interval '1 minute')",
    [key],
  )
}

/** Notes with which secret the whole address was shown; gives false where that was so before. */
export async function noteAddressShown(database: Database, key: string, secret: string): Promise<boolean> {
  const noted = await rows(
    database,
    "UPDATE channels SET address_shown = ? WHERE key = ? AND address_shown IS DISTINCT FROM ? RETURNING key",
    [secret, key, secret],
  )
  return noted.length > 0
}

export async function listChannels(database: Database): Promise<ChannelRow[]> {
  return rows<ChannelRow>(database, "SELECT * FROM channels WHERE removed_at IS NULL ORDER BY key")
}

/** Adds a channel; gives false when the key is taken. */
export async function addChannel(
  database: Database,
  channel: Pick<ChannelRow, "key" | "kind" | "settings" | "sealed" | "bot" | "lane">,
): Promise<boolean> {
  const made = await rows(
    database,
    `INSERT INTO channels (key, kind, settings, sealed, bot, lane) VALUES (?, ?, ?::jsonb, ?::jsonb, ?, ?)
     ON CONFLICT (key) DO UPDATE SET kind = excluded.kind, settings = excluded.settings, sealed = excluded.sealed,
       bot = excluded.bot, lane = excluded.lane, state = 'on', reason = NULL, removed_at = NULL, fetched_at = now()
     WHERE channels.removed_at IS NOT NULL RETURNING key`,
    [
      channel.key,
      channel.kind,
      JSON.stringify(channel.settings),
      JSON.stringify(channel.sealed),
      channel.bot,
      channel.lane,
    ],
  )
  return made.length > 0
}

/** Changes a channel that is still as it was read; gives false where somebody else changed it meanwhile. */
export async function changeChannel(
  database: Database,
  key: string,
  before: Pick<ChannelRow, "settings" | "sealed" | "former">,
  change: Pick<ChannelRow, "settings" | "sealed" | "former" | "bot" | "lane"> & { forgetIdentity: boolean },
): Promise<boolean> {
  const changed = await rows(
    database,
    `UPDATE channels SET settings = ?::jsonb, sealed = ?::jsonb, former = ?::jsonb, bot = ?, lane = ?, identity = CASE WHEN ?::boolean THEN NULL ELSE identity END
     WHERE key = ? AND settings = ?::jsonb AND sealed = ?::jsonb AND former = ?::jsonb RETURNING key`,
    [
      JSON.stringify(change.settings),
      JSON.stringify(change.sealed),
      JSON.stringify(change.former),
      change.bot,
      change.lane,
      change.forgetIdentity,
      key,
      JSON.stringify(before.settings),
      JSON.stringify(before.sealed),
      JSON.stringify(before.former),
    ],
  )
  return changed.length > 0
}

export async function keepIdentity(database: Database, key: string, identity: Identity): Promise<void> {
  await rows(database, "UPDATE channels SET identity = ?::jsonb, checked_at = now() WHERE key = ?", [
    JSON.stringify(identity),
    key,
  ])
}

/** Stops a channel: what arrives waits; nothing is handled or sent. Gives false when it was stopped already. */
export async function stopChannel(
  database: Database,
  key: string,
  stop: { state: "paused" | "locked out"; reason: string; remedy?: string; forState?: boolean },
): Promise<boolean> {
  return database.transaction(async (step) => {
    const changed = await rows(
      step,
      `UPDATE channels SET state = ?, reason = ?, remedy = ?, for_state = ? WHERE key = ? AND state = 'on' RETURNING key`,
      [stop.state, stop.reason, stop.remedy ?? null, stop.forState === true, key],
    )
    await rows(
      step,
      "UPDATE work SET due_at = 'infinity' WHERE channel = ? AND due_at IS NOT NULL AND holder IS NULL",
      [key],
    )
    return changed.length > 0
  })
}

/** Resumes a channel. */
/** @param from the state it must have; whatever it has where nothing is said */
export async function resumeChannel(
  database: Database,
  key: string,
  from: ChannelRow["state"] | null = null,
): Promise<boolean> {
  return database.transaction(async (step) => {
    const changed = await rows(
      step,
      `UPDATE channels SET state = 'on', reason = NULL, remedy = NULL, for_state = false, resumed_at = now() WHERE key = ? AND state <> 'on' AND (?::text IS NULL OR state = ?) RETURNING key`,
      [key, from, from],
    )
    if (changed.length > 0 || from === null) await wakeLines(step, [key])
    return changed.length > 0
  })
}

/** What was put to rest by a process that had not yet seen the channel resumed is woken with the next sweep. */
export async function wakeResumed(database: Database): Promise<void> {
  const found = await rows<{ key: string }>(
    database,
    "SELECT key FROM channels WHERE state = 'on' AND resumed_at > now() - interval '1 minute'",
  )
  if (found.length > 0)
    await wakeLines(
      database,
      found.map((row) => row.key),
    )
}

async function wakeLines(database: Database, channels: string[]): Promise<void> {
  await rows(database, "UPDATE work SET due_at = now() WHERE due_at = 'infinity' AND channel = ANY(?)", [channels])
  await rows(database, "UPDATE outbox SET due_at = now() WHERE due_at = 'infinity' AND channel = ANY(?)", [channels])
}

/** How much waits on a channel: for a turn, to be sent, for a person. */
export async function waitingOn(
  database: Database,
  key: string,
): Promise<{ turns: number; replies: number; parked: number }> {
  const [found] = await rows<{ turns: number; replies: number; parked: number }>(
    database,
    `SELECT (SELECT count(*)::int FROM work WHERE channel = ? AND due_at IS NOT NULL) AS turns,
            (SELECT count(*)::int FROM outbox WHERE channel = ?) AS replies,
            (SELECT count(*)::int FROM parked WHERE channel = ? AND decided_at IS NULL) AS parked`,
    [key, key, key],
  )
  return found!
}

/** Removes a channel. What waits on it is dropped, and says so; what was said stays. */
export async function removeChannel(database: Database, key: string, by: string): Promise<void> {
  await database.transaction(async (step) => {
    await rows(
      step,
      `UPDATE channels SET removed_at = now(), state = 'paused', reason = 'removed', remedy = NULL, settings = '{}',
         sealed = '{}', former = '{}', identity = NULL, learning = NULL, bringing = NULL WHERE key = ?`,
      [key],
    )
    const unsent = await rows<Left>(step, "DELETE FROM outbox WHERE channel = ? RETURNING conversation, message", [key])
    const unheard = await rows<Left>(
      step,
      `SELECT m.conversation, m.id AS message FROM work w JOIN messages m ON m.conversation = w.conversation
         AND m.position > w.heard AND m.direction = 'in' WHERE w.channel = ? AND w.due_at IS NOT NULL`,
      [key],
    )
    await dropLeft(step, key, by, "send", "the channel was removed before it was sent", unsent)
    await dropLeft(step, key, by, "turn", "the channel was removed before its turn", unheard)
    await rows(
      step,
      `UPDATE parked SET decision = 'drop', decided_by = ?, decided_at = clock_timestamp(),
         decided_xid = pg_current_xact_id() WHERE channel = ? AND decided_at IS NULL`,
      [by, key],
    )
    await rows(
      step,
      "UPDATE work SET due_at = NULL, holder = NULL, fence = fence + 1, heard = next_position - 1, waits = 0 WHERE channel = ?",
      [key],
    )
    for (const table of ["leases", "samples", "brought", "choice_tokens", "waits"])
      await rows(step, `DELETE FROM ${table} WHERE channel = ?`, [key])
  })
}

interface Left {
  conversation: string
  message: string
}

/** Notes of what was left on a removed channel that it was dropped, and why. */
async function dropLeft(
  database: Database,
  channel: string,
  by: string,
  what: "send" | "turn",
  reason: string,
  left: Left[],
): Promise<void> {
  if (left.length === 0) return
  await rows(
    database,
    `INSERT INTO parked (id, what, cause, reason, channel, conversation, message, decision, decided_by, decided_at, decided_xid)
     SELECT i.id, ?, 'removed', ?, ?, i.conversation, i.message, 'drop', ?, clock_timestamp(), pg_current_xact_id()
     FROM unnest(?::text[], ?::text[], ?::text[]) AS i (id, conversation, message)`,
    [
      what,
      reason,
      channel,
      by,
      left.map(() => newId("prk")),
      left.map((one) => one.conversation),
      left.map((one) => one.message),
    ],
  )
}
