import { createHash } from "node:crypto"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { newId } from "./ids.ts"
import type { Looked } from "./lookThrough.ts"

/** `bring` may fetch the calls of one channel and nothing else; `worker`, the turns of one queue. */
export type Role = "owner" | "developer" | "operator" | "reader" | "bring" | "worker"

/** Who is at the door, however they came in. */
export interface Visitor {
  /** Of the token or the session. */
  id: string
  name: string
  role: Role
  /** Set for a session: the word that our own pages repeat with every change. */
  csrf?: string
  /** Set where nothing but this channel is open to them, or this queue. */
  channel?: string
  queue?: string
}

/** Who did something, for the record. */
export interface Doer {
  name: string
  id?: string
  address?: string
}

export interface TokenRow {
  id: string
  name: string
  role: Role
  channel: string | null
  queue: string | null
  made_by: string | null
  created_at: Date
  expires_at: Date | null
  revoked_at: Date | null
  last_used_at: Date | null
}

export interface SessionRow {
  id: string
  name: string
  role: Role
  address: string | null
  started_at: Date
  seen_at: Date
  until: Date
}

export interface AuditRow {
  id: string
  who: string
  did: string
  detail: { [field: string]: unknown } | null
  token: string | null
  address: string | null
  at: Date
}

/** Seconds a session may go unused, and may last at most. */
export const sessionSeconds = { idle: 86_400, longest: 14 * 86_400 }

/** Only hashes are kept: a stolen database lets nobody in. */
export function hashOf(secret: string): string {
  return createHash("sha256").update(secret).digest("hex")
}

/** Keeps a new token; gives its id, or undefined where the name is taken. */
export async function keepToken(
  database: Database,
  given: { token: string; name: string; role: Role; channel?: string; queue?: string; by?: string; expiresAt?: Date },
): Promise<string | undefined> {
  const [made] = await rows<{ id: string }>(
    database,
    `INSERT INTO tokens (id, hash, name, role, channel, queue, made_by, expires_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT DO NOTHING RETURNING id`,
    [
      newId("tok"),
      hashOf(given.token),
      given.name,
      given.role,
      given.channel ?? null,
      given.queue ?? null,
      given.by ?? null,
      given.expiresAt ?? null,
    ],
  )
  return made?.id
}

/** Sees to it that a service's own token is known. Of several services on one database each has its own, with a number. */
export async function keepLocalToken(database: Database, token: string): Promise<void> {
  for (let n = 1; n < 1000; n++) {
    if ((await rows(database, "SELECT 1 FROM tokens WHERE hash = ?", [hashOf(token)])).length > 0) return
    if (await keepToken(database, { token, name: n === 1 ? "local" : `local (${n})`, role: "owner" })) return
  }
}

export async function visitorByToken(database: Database, token: string): Promise<Visitor | undefined> {
  const [found] = await rows<Visitor & { channel: string | null; queue: string | null; stale: boolean }>(
    database,
    `SELECT id, name, role, channel, queue, coalesce(last_used_at < now() - interval '1 minute', true) AS stale FROM tokens
     WHERE hash = ? AND revoked_at IS NULL AND coalesce(expires_at > now(), true)`,
    [hashOf(token)],
  )
  if (!found) return undefined
  const { channel, queue, stale, ...visitor } = found
  if (stale) await rows(database, "UPDATE tokens SET last_used_at = now() WHERE id = ?", [visitor.id])
  return { ...visitor, ...(channel === null ? {} : { channel }), ...(queue === null ? {} : { queue }) }
}

/** All tokens, the newest first, those revoked last. */
export async function listTokens(database: Database): Promise<TokenRow[]> {
  return rows<TokenRow>(
    database,
    `SELECT id, name, role, channel, queue, made_by, created_at, expires_at, revoked_at, last_used_at FROM tokens
     ORDER BY revoked_at IS NOT NULL, id DESC LIMIT 1000`,
  )
}

/** Revokes a token by its id or name, and ends the sessions that began with it. */
export async function revokeToken(database: Database, idOrName: string): Promise<TokenRow | undefined> {
  return database.transaction(async (step) => {
    const [revoked] = await rows<TokenRow>(
      step,
      `UPDATE tokens SET revoked_at = now() WHERE revoked_at IS NULL AND (id = ? OR name = ?)
       RETURNING id, name, role, channel, queue, made_by, created_at, expires_at, revoked_at, last_used_at`,
      [idOrName, idOrName],
    )
    if (revoked) await rows(step, "DELETE FROM sessions WHERE token = ?", [revoked.id])
    return revoked
  })
}

export async function keepSession(
  database: Database,
  session: {
    secret: string
    kind: "once" | "session"
    csrf?: string
    visitor: { name: string; role: Role; id?: string }
    seconds: number
    address?: string
  },
): Promise<string> {
  const id = newId("ses")
  await rows(
    database,
    `INSERT INTO sessions (id, hash, kind, csrf, name, role, token, address, until)
     VALUES (?, ?, ?, ?, ?, ?, ?, ?, now() + ?::int * interval '1 second')`,
    [
      id,
      hashOf(session.secret),
      session.kind,
      session.csrf ?? null,
      session.visitor.name,
      session.visitor.role,
      session.visitor.id?.startsWith("tok_") ? session.visitor.id : null,
      session.address ?? null,
      session.seconds,
    ],
  )
  return id
}

/** Whether a session is still good: neither over, nor unused for long, nor begun with a token that no longer is. */
const goodSession = `kind = 'session' AND until > now() AND seen_at > now() - ${sessionSeconds.idle} * interval '1 second'
  AND NOT EXISTS (SELECT 1 FROM tokens AS t WHERE t.id = s.token
    AND (t.revoked_at IS NOT NULL OR t.expires_at <= now()))`

export async function visitorBySession(database: Database, secret: string): Promise<Visitor | undefined> {
  const [found] = await rows<Visitor & { stale: boolean }>(
    database,
    `SELECT id, name, role, csrf, seen_at < now() - interval '1 minute' AS stale FROM sessions AS s
     WHERE hash = ? AND ${goodSession}`,
    [hashOf(secret)],
  )
  if (!found) return undefined
  const { stale, ...visitor } = found
  if (stale) await rows(database, "UPDATE sessions SET seen_at = now() WHERE id = ?", [visitor.id])
  return visitor
}

/** A one-time sign-in works once, even when two browsers open it at the same moment. */
export async function spendOnce(database: Database, secret: string): Promise<Visitor | undefined> {
  return (
    await rows<Visitor>(
      database,
      "DELETE FROM sessions WHERE hash = ? AND kind = 'once' AND until > now() RETURNING id, name, role",
      [hashOf(secret)],
    )
  )[0]
}

export async function listSessions(database: Database): Promise<SessionRow[]> {
  return rows<SessionRow>(
    database,
    `SELECT id, name, role, address, started_at, seen_at, until FROM sessions AS s WHERE ${goodSession}
     ORDER BY id DESC LIMIT 1000`,
  )
}

export async function endSession(database: Database, id: string): Promise<{ name: string } | undefined> {
  return (await rows<{ name: string }>(database, "DELETE FROM sessions WHERE id = ? RETURNING name", [id]))[0]
}

/** Forgets sessions that let nobody in any more. */
export async function pruneSessions(database: Database): Promise<void> {
  await rows(database, `DELETE FROM sessions AS s WHERE until < now() OR (kind = 'session' AND NOT (${goodSession}))`)
}

/** Writes into the audit, which only grows, who did what. */
export async function record(database: Database, who: Doer, did: string, detail: object = {}): Promise<void> {
  await rows(database, "INSERT INTO audit (id, who, token, address, did, detail) VALUES (?, ?, ?, ?, ?, ?::jsonb)", [
    newId("aud"),
    who.name,
    who.id ?? null,
    who.address ?? null,
    did,
    JSON.stringify(detail),
  ])
}

/** What was done, the newest first. */
export async function listAudit(
  database: Database,
  filter: { who?: string; did?: string; below?: string; limit: number },
): Promise<Looked<AuditRow>> {
  const wheres = ["true"]
  const values: unknown[] = []
  if (filter.who !== undefined) (wheres.push("(who = ? OR token = ?)"), values.push(filter.who, filter.who))
  if (filter.did !== undefined) (wheres.push("did = ?"), values.push(filter.did))
  if (filter.below !== undefined) (wheres.push("id < ?"), values.push(filter.below))
  const found = await rows<AuditRow>(
    database,
    `SELECT id, who, did, detail, token, address, at FROM audit WHERE ${wheres.join(" AND ")} ORDER BY id DESC LIMIT ?`,
    [...values, filter.limit + 1],
  )
  const kept = found.slice(0, filter.limit)
  return { rows: kept, next: found.length > kept.length ? kept.at(-1)!.id : undefined, short: false }
}
