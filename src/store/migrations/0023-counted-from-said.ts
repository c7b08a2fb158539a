import type { Knex } from "knex"

/** Times that are counted from when a question was said, and queues that are looked at without reading all of them. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    ALTER TABLE timers
      -- The message from whose sending the time is counted, and how many milliseconds; processes of before leave both out.
      ADD COLUMN said id,
      ADD COLUMN within double precision`)
  await knex.raw(`
    CREATE INDEX waits_queued ON waits (place, since, conversation) WHERE kind = 'queue' AND answer IS NULL`)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP INDEX waits_queued")
  await knex.raw("ALTER TABLE timers DROP COLUMN said, DROP COLUMN within")
}
