import { createHash } from "node:crypto"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { newId } from "./ids.ts"

/** `bring` may fetch the calls of one channel and nothing else. */
export type Role = "owner" | "developer" | "operator" | "reader" | "bring"

/** Who is at the door, however they came in. */
export interface Visitor {
  name: string
  role: Role
  csrf?: string
  /** Set where nothing but this channel is open to them. */
  channel?: string
}

/** Only hashes are kept: a stolen database lets nobody in. */
function hashOf(secret: string): string {
  return createHash("sha256").update(secret).digest("hex")
}

export async function keepToken(
  database: Database,
  token: string,
  name: string,
  role: Role,
  channel?: string,
): Promise<void> {
  await rows(
    database,
    "INSERT INTO tokens (id, hash, name, role, channel) VALUES (?, ?, ?, ?, ?) ON CONFLICT (hash) DO NOTHING",
    [newId("tok"), hashOf(token), name, role, channel ?? null],
  )
}

export async function visitorByToken(database: Database, token: string): Promise<Visitor | undefined> {
  const [found] = await rows<Visitor & { channel: string | null }>(
    database,
    "SELECT name, role, channel FROM tokens WHERE hash = ?",
    [hashOf(token)],
  )
  if (!found) return undefined
  const { channel, ...visitor } = found
  return channel === null ? visitor : { ...visitor, channel }
}

export async function keepSession(
  database: Database,
  session: { secret: string; kind: "once" | "session"; csrf?: string; visitor: Visitor; seconds: number },
): Promise<void> {
  await rows(
    database,
    "INSERT INTO sessions (hash, kind, csrf, name, role, until) VALUES (?, ?, ?, ?, ?, now() + ?::int * interval '1 second')",
    [
      hashOf(session.secret),
      session.kind,
      session.csrf ?? null,
      session.visitor.name,
      session.visitor.role,
      session.seconds,
    ],
  )
  await rows(database, "DELETE FROM sessions WHERE until < now()")
}

export async function visitorBySession(database: Database, secret: string): Promise<Visitor | undefined> {
  return (
    await rows<Visitor>(
      database,
      "SELECT name, role, csrf FROM sessions WHERE hash = ? AND kind = 'session' AND until > now()",
      [hashOf(secret)],
    )
  )[0]
}

/** A one-time sign-in works once, even when two browsers open it at the same moment. */
export async function spendOnce(database: Database, secret: string): Promise<Visitor | undefined> {
  return (
    await rows<Visitor>(
      database,
      "DELETE FROM sessions WHERE hash = ? AND kind = 'once' AND until > now() RETURNING name, role",
      [hashOf(secret)],
    )
  )[0]
}

export async function endSession(database: Database, secret: string): Promise<void> {
  await rows(database, "DELETE FROM sessions WHERE hash = ?", [hashOf(secret)])
}

export async function record(database: Database, who: string, did: string, detail: object = {}): Promise<void> {
  await rows(database, "INSERT INTO audit (id, who, did, detail) VALUES (?, ?, ?, ?::jsonb)", [
    newId("aud"),
    who,
    did,
    JSON.stringify(detail),
  ])
}
