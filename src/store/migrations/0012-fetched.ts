import type { Knex } from "knex"

/**
 * When a channel's queue was last asked with success: what waits at the gateway for longer than it keeps it is lost, and
 * its operator is told before that.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE channels ADD COLUMN fetched_at timestamptz")
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE channels DROP COLUMN fetched_at")
}
