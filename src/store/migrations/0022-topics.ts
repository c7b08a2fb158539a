import type { Knex } from "knex"

/** Topics that are opened for conversations shown elsewhere, and what databases made while 0.12.0 was in the making lack. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE IF NOT EXISTS relay_topics (
      -- The message that opens it.
      message id PRIMARY KEY,
      conversation id NOT NULL,
      channel text NOT NULL,
      to_channel text NOT NULL,
      to_place text NOT NULL,
      names boolean NOT NULL,
      -- The message that was the first to be shown in it.
      asked_by id NOT NULL
    )`)
  await knex.raw("CREATE INDEX IF NOT EXISTS relay_topics_from ON relay_topics (conversation, message)")
  await knex.raw("CREATE INDEX IF NOT EXISTS relay_topics_to ON relay_topics (to_channel, to_place, message)")
  await knex.raw("CREATE INDEX IF NOT EXISTS relay_topics_asked ON relay_topics (asked_by)")
  await knex.raw("CREATE INDEX IF NOT EXISTS waits_given_up ON waits (due_at) WHERE leases >= 5 AND answer IS NULL")
  await knex.raw("ALTER TABLE tokens ADD COLUMN IF NOT EXISTS queue text")
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE relay_topics")
}
