import type { Identity } from "../core/channels/kind.ts"
import type { Forwarding } from "./brought.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import type { Learning } from "./samples.ts"

export interface ChannelRow {
  key: string
  kind: string
  settings: { [name: string]: unknown }
  sealed: { [name: string]: string }
  state: "on" | "paused" | "locked out"
  reason: string | null
  remedy: string | null
  bot: string | null
  lane: string
  identity: Identity | null
  checked_at: Date | null
  created_at: Date
  learning: Learning | null
  bringing: Forwarding | null
}

export async function listChannels(database: Database): Promise<ChannelRow[]> {
  return rows<ChannelRow>(database, "SELECT * FROM channels ORDER BY key")
}

/** Adds a channel; gives false when the key is taken. */
export async function addChannel(
  database: Database,
  channel: Pick<ChannelRow, "key" | "kind" | "settings" | "sealed" | "bot" | "lane">,
): Promise<boolean> {
  const made = await rows(
    database,
    `INSERT INTO channels (key, kind, settings, sealed, bot, lane) VALUES (?, ?, ?::jsonb, ?::jsonb, ?, ?)
     ON CONFLICT DO NOTHING RETURNING key`,
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

export async function changeChannel(
  database: Database,
  key: string,
  change: Partial<Pick<ChannelRow, "settings" | "sealed" | "bot" | "lane">> & { forgetIdentity?: boolean },
): Promise<void> {
  await rows(
    database,
    `UPDATE channels SET settings = coalesce(?::jsonb, settings), sealed = coalesce(?::jsonb, sealed),
       bot = coalesce(?, bot), lane = coalesce(?, lane), identity = CASE WHEN ?::boolean THEN NULL ELSE identity END
     WHERE key = ?`,
    [
      change.settings ? JSON.stringify(change.settings) : null,
      change.sealed ? JSON.stringify(change.sealed) : null,
      change.bot ?? null,
      change.lane ?? null,
      change.forgetIdentity ?? false,
      key,
    ],
  )
}

export async function keepIdentity(database: Database, key: string, identity: Identity): Promise<void> {
  await rows(database, "UPDATE channels SET identity = ?::jsonb, checked_at = now() WHERE key = ?", [
    JSON.stringify(identity),
    key,
  ])
}

/** Stops a channel: what arrives is kept, nothing is handled or sent. Gives false when it was stopped already. */
export async function stopChannel(
  database: Database,
  key: string,
  stop: { state: "paused" | "locked out"; reason: string; remedy?: string },
): Promise<boolean> {
  return database.transaction(async (step) => {
    const changed = await rows(
      step,
      `UPDATE channels SET state = ?, reason = ?, remedy = ? WHERE key = ? AND state = 'on' RETURNING key`,
      [stop.state, stop.reason, stop.remedy ?? null, key],
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
export async function resumeChannel(database: Database, key: string): Promise<boolean> {
  return database.transaction(async (step) => {
    const changed = await rows(
      step,
      `UPDATE channels SET state = 'on', reason = NULL, remedy = NULL, resumed_at = now() WHERE key = ? AND state <> 'on' RETURNING key`,
      [key],
    )
    await wakeLines(step, [key])
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
