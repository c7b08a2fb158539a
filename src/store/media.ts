import type { Media } from "../core/message/message.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { idAt } from "./ids.ts"
import { batch } from "./unnest.ts"

/** The part of a statement that notes what is to be fetched; empty when no message brings media. */
export function keepMedia(messages: { id: string; channel: string; media: Media[] }[]): {
  sql: string
  values: unknown[]
} {
  const pieces = messages.flatMap(({ id, channel, media }) =>
    media.map(({ ref }, n) => ({ message: id, n, channel, ref })),
  )
  if (pieces.length === 0) return { sql: "", values: [] }
  const f = batch("f", pieces, { message: "text", n: "integer", channel: "text", ref: "text" })
  return {
    sql: `, kept_media AS (
      INSERT INTO message_media (message, n, channel, ref)
      SELECT f.message, f.n, f.channel, f.ref FROM ${f.sql} JOIN fresh ON fresh.message = f.message
    )`,
    values: f.values,
  }
}

export interface DueMedia {
  message: string
  n: number
  channel: string
  ref: string
  tries: number
}

/** Takes what is due to be fetched; another process may take it again after two minutes. */
export async function takeDueMedia(database: Database, limit: number): Promise<DueMedia[]> {
  return rows<DueMedia>(
    database,
    `WITH due AS (
       SELECT message, n FROM message_media WHERE state = 'waiting' AND due_at <= now() ORDER BY due_at LIMIT ? FOR UPDATE SKIP LOCKED
     )
     UPDATE message_media m SET due_at = now() + interval '2 minutes', tries = m.tries + 1 FROM due
     WHERE m.message = due.message AND m.n = due.n RETURNING m.message, m.n, m.channel, m.ref, m.tries`,
    [limit],
  )
}

/** Keeps content once, however often it comes, and notes with which message it came. */
export async function keepContent(
  database: Database,
  due: DueMedia,
  kept: { hash: string; mime: string; content: Buffer },
): Promise<void> {
  await database.transaction(async (step) => {
    const noted = await rows(
      step,
      "UPDATE message_media SET state = 'kept', hash = ?, why = NULL WHERE message = ? AND n = ? RETURNING 1",
      [kept.hash, due.message, due.n],
    )
    // Its person may have been forgotten meanwhile.
    if (noted.length > 0) await keepSaid(step, kept)
  })
}

/** Keeps content that was given here, to be sent with something that is said to try a bot. */
export async function keepSaid(
  database: Database,
  kept: { hash: string; mime: string; content: Buffer },
): Promise<void> {
  await rows(
    database,
    "INSERT INTO media (hash, mime, size, content) VALUES (?, ?, ?, ?) ON CONFLICT (hash) DO NOTHING",
    [kept.hash, kept.mime, kept.content.length, kept.content],
  )
}

/** Whether a message was said here to try a bot; then what came with it lies here. */
export async function saidHere(database: Database, message: string): Promise<boolean> {
  const [found] = await rows<{ here: boolean }>(
    database,
    "SELECT (body->>'simulated') IS NOT NULL AS here FROM messages WHERE id = ?",
    [message],
  )
  return found?.here === true
}

/** Notes that what came with a message is content that lies here. */
export async function noteSaid(database: Database, due: DueMedia, hash: string): Promise<void> {
  await rows(database, "UPDATE message_media SET state = 'kept', hash = ?, why = NULL WHERE message = ? AND n = ?", [
    hash,
    due.message,
    due.n,
  ])
}

/** Bytes of media that were kept for messages of one channel since a time. */
export async function keptSince(database: Database, channel: string, since: Date): Promise<number> {
  const [found] = await rows<{ bytes: number }>(
    database,
    `SELECT coalesce(sum(c.size), 0)::bigint AS bytes FROM message_media m JOIN media c ON c.hash = m.hash
     WHERE m.message >= ? AND m.channel = ? AND m.state = 'kept'`,
    [idAt("msg", since), channel],
  )
  return found!.bytes
}

/** A fetch that failed: again after so many seconds, or never. */
export async function mediaFailed(
  database: Database,
  due: DueMedia,
  why: string,
  again: number | undefined,
): Promise<void> {
  await rows(
    database,
    `UPDATE message_media SET why = ?, state = CASE WHEN ?::float8 IS NULL THEN 'failed' ELSE 'waiting' END,
       due_at = now() + coalesce(?::float8, 0) * interval '1 second' WHERE message = ? AND n = ?`,
    [why, again ?? null, again ?? null, due.message, due.n],
  )
}

export async function contentOf(
  database: Database,
  hash: string,
): Promise<{ mime: string; content: Buffer } | undefined> {
  return (
    await rows<{ mime: string; content: Buffer }>(database, "SELECT mime, content FROM media WHERE hash = ?", [hash])
  )[0]
}

/** How a provider names what was brought to it, while it keeps it. */
export async function uploadedAs(
  database: Database,
  upload: { channel: string; hash: string; mime: string },
): Promise<string | undefined> {
  const found = await rows<{ ref: string }>(
    database,
    "SELECT ref FROM uploads WHERE channel = ? AND hash = ? AND mime = ? AND until > now()",
    [upload.channel, upload.hash, upload.mime],
  )
  return found[0]?.ref
}

export async function keepUpload(
  database: Database,
  upload: { channel: string; hash: string; mime: string; ref: string; seconds: number },
): Promise<void> {
  await rows(
    database,
    `INSERT INTO uploads (channel, hash, mime, ref, until) VALUES (?, ?, ?, ?, now() + ?::float8 * interval '1 second')
     ON CONFLICT (channel, hash, mime) DO UPDATE SET ref = excluded.ref, until = excluded.until`,
    [upload.channel, upload.hash, upload.mime, upload.ref, upload.seconds],
  )
}
