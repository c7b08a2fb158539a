import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** A gateway profile beside those that ship, as it is written. */
export interface ProfileRow {
  name: string
  source: string
  origin: "folder" | "learned" | "set"
  changed_at: Date
}

export async function listProfiles(database: Database): Promise<ProfileRow[]> {
  return rows<ProfileRow>(database, "SELECT * FROM profiles ORDER BY name")
}

/** Keeps a profile under its name; gives whether it says anything new. */
export async function keepProfile(
  database: Database,
  profile: Pick<ProfileRow, "name" | "source" | "origin">,
): Promise<boolean> {
  const changed = await rows(
    database,
    `INSERT INTO profiles AS p (name, source, origin) VALUES (?, ?, ?)
     ON CONFLICT (name) DO UPDATE SET source = excluded.source, origin = excluded.origin, changed_at = now()
       WHERE p.source <> excluded.source
     RETURNING name`,
    [profile.name, profile.source, profile.origin],
  )
  return changed.length > 0
}

/** When a profile became what it is now; undefined for one that ships. */
export async function profileChanged(database: Database, name: string): Promise<Date | undefined> {
  return (await rows<ProfileRow>(database, "SELECT changed_at FROM profiles WHERE name = ?", [name]))[0]?.changed_at
}
