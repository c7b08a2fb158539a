import type { Database } from "./database.ts"
import { rows } from "./database.ts"
import { joinPeople } from "./people.ts"

/** Minutes for which a code may be said, and wrong ones that end all that are open. */
const minutes = 10
const mostWrong = 5

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
 * against all that are open, so that nobody can try many.
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
       WHERE mark = ? AND (used_by = ? OR (used_by IS NULL AND until > now() AND wrong < ?)) FOR UPDATE`,
      [said.mark, said.message, mostWrong],
    )
    if (!code) {
      await rows(step, "UPDATE join_codes SET wrong = wrong + 1 WHERE used_by IS NULL AND until > now()")
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
