import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** A secret of a bot, without its value. */
export interface SecretRow {
  bot: string
  /** Empty for all lanes. */
  lane: string
  name: string
  setBy: string
  setAt: Date
}

const shown = `bot, lane, name, set_by AS "setBy", set_at AS "setAt"`

export async function listSecrets(database: Database, bot?: string): Promise<SecretRow[]> {
  return rows<SecretRow>(
    database,
    `SELECT ${shown} FROM secrets WHERE ${bot === undefined ? "true" : "bot = ?"} ORDER BY bot, name, lane`,
    bot === undefined ? [] : [bot],
  )
}

/** What a lane's handlers may have: its own, and those of all lanes under other names. Sealed. */
export async function sealedSecrets(
  database: Database,
  bot: string,
  lane: string,
): Promise<{ name: string; sealed: string }[]> {
  return rows(
    database,
    "SELECT DISTINCT ON (name) name, sealed FROM secrets WHERE bot = ? AND lane IN ('', ?) ORDER BY name, lane DESC",
    [bot, lane],
  )
}

/** Sets or replaces a secret. Gives whether there was one before. */
export async function setSecret(
  database: Database,
  secret: { bot: string; lane: string; name: string; sealed: string; by: string },
): Promise<boolean> {
  const [set] = await rows<{ fresh: boolean }>(
    database,
    `INSERT INTO secrets AS s (bot, lane, name, sealed, set_by) VALUES (?, ?, ?, ?, ?)
     ON CONFLICT (bot, lane, name) DO UPDATE SET sealed = excluded.sealed, set_by = excluded.set_by, set_at = now()
     RETURNING xmax = 0 AS fresh`,
    [secret.bot, secret.lane, secret.name, secret.sealed, secret.by],
  )
  return !set!.fresh
}

export async function dropSecret(
  database: Database,
  { bot, lane, name }: { bot: string; lane: string; name: string },
): Promise<boolean> {
  const gone = await rows(database, "DELETE FROM secrets WHERE bot = ? AND lane = ? AND name = ? RETURNING 1", [
    bot,
    lane,
    name,
  ])
  return gone.length > 0
}
