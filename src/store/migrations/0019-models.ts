import type { Knex } from "knex"

/** What people, and bots as a whole, use of models in a day. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE spending (
      bot text NOT NULL,
      model text NOT NULL,
      -- The contact; the conversation where nobody is named; '*' for everybody.
      who text NOT NULL,
      -- In the bot's zone.
      day date NOT NULL,
      calls integer NOT NULL DEFAULT 0,
      tokens bigint NOT NULL DEFAULT 0,
      money double precision NOT NULL DEFAULT 0,
      PRIMARY KEY (bot, model, day, who)
    ) WITH (fillfactor = 70)`)
  await knex.raw("CREATE INDEX spending_who ON spending (who)")
  await knex.raw("DROP INDEX waits_to_ask")
  await knex.raw("CREATE INDEX waits_to_ask ON waits (due_at) WHERE kind <> 'queue' AND answer IS NULL")
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP INDEX waits_to_ask")
  await knex.raw("CREATE INDEX waits_to_ask ON waits (due_at) WHERE kind = 'endpoint' AND answer IS NULL")
  await knex.raw("DROP TABLE spending")
}
