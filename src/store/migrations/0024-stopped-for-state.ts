import type { Knex } from "knex"

/** Which channels are locked out for their account's state, and not for their keys: only those resume by another state. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE channels ADD COLUMN for_state boolean NOT NULL DEFAULT false")
  // Up to 0.16.0 only the reason's words told.
  await knex.raw(
    "UPDATE channels SET for_state = true WHERE state = 'locked out' AND strpos(reason, 'the gateway says the account is ') > 0",
  )
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE channels DROP COLUMN for_state")
}
