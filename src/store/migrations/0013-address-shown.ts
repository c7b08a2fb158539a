import type { Knex } from "knex"

/** For which secret a channel's whole address was shown, since that is shown once. */
export async function up(knex: Knex): Promise<void> {
  // A build of 0.5.0 on its way added it with the versions.
  await knex.raw("ALTER TABLE channels ADD COLUMN IF NOT EXISTS address_shown text")
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE channels DROP COLUMN IF EXISTS address_shown")
}
