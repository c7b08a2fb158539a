import type { Knex } from "knex"

/** Times counted from when a question was said, queues looked at without reading all of them, turns that end processes. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    ALTER TABLE timers
      -- The message from whose sending the time is counted, and how many milliseconds; processes of before leave both out.
      ADD COLUMN said id,
      ADD COLUMN within double precision`)
  // How many processes ended while they held the line; see deathCounted in claims.ts.
  await knex.raw("ALTER TABLE work ADD COLUMN deaths smallint NOT NULL DEFAULT 0")
  // By whom wrong codes were said, with how often.
  await knex.raw("ALTER TABLE join_codes ADD COLUMN wrong_by jsonb NOT NULL DEFAULT '{}'")
  await knex.raw(`
    CREATE INDEX waits_queued ON waits (place, since, conversation) WHERE kind = 'queue' AND answer IS NULL`)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP INDEX waits_queued")
  await knex.raw("ALTER TABLE join_codes DROP COLUMN wrong_by")
  await knex.raw("ALTER TABLE work DROP COLUMN deaths")
  await knex.raw("ALTER TABLE timers DROP COLUMN said, DROP COLUMN within")
}
