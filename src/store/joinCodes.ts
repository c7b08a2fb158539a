import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { joinPeople } from "./people.ts"

/** Minutes for which a code may be said. */
const minutes = 10
/** Wrong ones that one speaker may say meanwhile, and all together: no stranger may spoil the codes of others. */
const mostWrong = { speaker: 5, all: 200 }

/** Keeps a code for a person; only a keyed hash of it. One made before for the same person no longer works. */
export async function keepJoinCode(
  database: Database,
  code: { mark: string; contact: string; by: string },
): Promise<Date | undefined> {
  return database.transaction(async (step) => {
    await rows(step, "DELETE FROM join_codes WHERE contact = ? OR until < now() - interval '1 day'", [code.contact])
    const [kept] = await rows<{ until: Date }>(
      step,
      `INSERT INTO join_codes (mark, contact, made_by, until)
       SELECT ?, id, ?, now() + ?::int * interval '1 minute' FROM contacts WHERE id = ? RETURNING until`,
      [code.mark, code.by, minutes, code.contact],
    )
    return kept?.until
  })
}

/**
 * Somebody says what looks like a code. Gives whose they are now, or nothing where it is none that is open; that counts
 * against whoever says it, for all that are open, so that nobody can try many.
 *
 * @param said.message the message it was said in: taken again, it has the same end
 */
export async function useJoinCode(
  database: Database,
  said: { mark: string; contact: string; message: string },
): Promise<{ contact: string; by: string; joined: boolean } | undefined> {
  return database.transaction(async (step) => {
    const [code] = await rows<{ contact: string; by: string; used: boolean }>(
      step,
      `SELECT contact, made_by AS by, used_by IS NOT NULL AS used FROM join_codes
       WHERE mark = ? AND (used_by = ? OR (used_by IS NULL AND until > now() AND wrong < ? AND coalesce((wrong_by->>?)::int, 0) < ?)) FOR UPDATE`,
      [said.mark, said.message, mostWrong.all, said.contact, mostWrong.speaker],
    )
    if (!code) {
      await rows(
        step,
        `UPDATE join_codes SET wrong = wrong + 1,
           wrong_by = wrong_by || jsonb_build_object(?::text, coalesce((wrong_by->>?)::int, 0) + 1)
         WHERE used_by IS NULL AND until > now() AND wrong < ? AND coalesce((wrong_by->>?)::int, 0) < ?`,
        [said.contact, said.contact, mostWrong.all, said.contact, mostWrong.speaker],
      )
      return undefined
    }
    const { contact, by } = code
    if (code.used) return { contact, by, joined: false }
    const same = contact === said.contact
    if (!same && !(await joinPeople(step, contact, said.contact))) return undefined
    await rows(step, "UPDATE join_codes SET used_by = ? WHERE mark = ?", [said.message, said.mark])
    return { contact, by, joined: !same }
  })
}
