import type { Knex } from "knex"

/** What is said in one place and shown in another. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE relays (
      id id PRIMARY KEY,
      message id NOT NULL,
      conversation id NOT NULL,
      channel text NOT NULL,
      -- The message at its provider; of an edit or a deletion, the one that is meant.
      provider_id text,
      what text NOT NULL,
      to_channel text NOT NULL,
      to_place text NOT NULL,
      -- Set where it goes back into the conversation it answers.
      to_conversation id,
      names boolean NOT NULL,
      threads boolean NOT NULL,
      -- What it answers over there, by the provider's id.
      answers text,
      -- A hash of the words: the same again and again is a loop.
      words text,
      state text NOT NULL DEFAULT 'waiting',
      why text,
      due_at timestamptz NOT NULL DEFAULT now(),
      -- The message it became.
      copy id,
      copy_conversation id,
      at timestamptz NOT NULL DEFAULT now(),
      UNIQUE (message, what, to_channel, to_place)
    ) WITH (fillfactor = 70)`)
  await knex.raw("CREATE INDEX relays_due ON relays (due_at, id) WHERE state = 'waiting'")
  await knex.raw("CREATE INDEX relays_from ON relays (conversation, id)")
  await knex.raw("CREATE INDEX relays_to ON relays (to_channel, to_place, id)")
  await knex.raw("CREATE INDEX relays_copies ON relays (copy_conversation, id)")
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE relays")
}
