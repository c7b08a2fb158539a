import type { Knex } from "knex"

/**
 * What decisions look at besides the message: how often each route has taken something in a conversation, tags and fields
 * of people, tags of places; what a decision saw of that, with its turn; and how much each route does.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE states ADD COLUMN taken jsonb")
  await knex.raw(
    "ALTER TABLE contacts ADD COLUMN tags text[] NOT NULL DEFAULT '{}', ADD COLUMN fields jsonb NOT NULL DEFAULT '{}'",
  )
  await knex.raw("ALTER TABLE conversations ADD COLUMN tags text[] NOT NULL DEFAULT '{}'")
  await knex.raw("ALTER TABLE turns ADD COLUMN facts jsonb")
  // Written with every batch of turns, and nothing but added to there; a chore sums it up by the hour.
  await knex.raw(`
    CREATE TABLE tally (
      at timestamptz NOT NULL,
      bot text NOT NULL,
      route text NOT NULL,
      hits bigint NOT NULL,
      failures bigint NOT NULL,
      milliseconds bigint NOT NULL,
      slowest integer NOT NULL,
      last_at timestamptz NOT NULL
    )`)
  await knex.raw("CREATE INDEX tally_by_time ON tally USING brin (at) WITH (pages_per_range = 8)")
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE tally")
  await knex.raw("ALTER TABLE turns DROP COLUMN facts")
  await knex.raw("ALTER TABLE conversations DROP COLUMN tags")
  await knex.raw("ALTER TABLE contacts DROP COLUMN tags, DROP COLUMN fields")
  await knex.raw("ALTER TABLE states DROP COLUMN taken")
}
