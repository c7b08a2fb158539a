import type { Knex } from "knex"

/** What applications tell, and whom. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE notices (
      id id PRIMARY KEY,
      bot text NOT NULL,
      lane text NOT NULL,
      -- The release whose notices hold.
      release text NOT NULL,
      type text NOT NULL,
      source text,
      -- Tells it apart from every other: the same one twice is one.
      key text NOT NULL,
      fingerprint text NOT NULL,
      data jsonb NOT NULL,
      by text NOT NULL,
      at timestamptz NOT NULL DEFAULT now(),
      -- 'new' until it is known whom it is told, then 'spread'.
      state text NOT NULL DEFAULT 'new',
      UNIQUE (bot, lane, key)
    )`)
  await knex.raw("CREATE INDEX notices_new ON notices (id) WHERE state = 'new'")
  await knex.raw(`
    CREATE TABLE recipients (
      id id PRIMARY KEY,
      notice id NOT NULL,
      -- Which of the bot's notices says it.
      rule integer NOT NULL,
      -- Who is meant: a contact, or what the application called them.
      contact text,
      named text,
      conversation id,
      channel text,
      -- Which of one kind become one: the bot, its lane and the event's type.
      together text NOT NULL,
      state text NOT NULL,
      why text,
      due_at timestamptz,
      message id,
      at timestamptz NOT NULL DEFAULT now()
    ) WITH (fillfactor = 70)`)
  await knex.raw("CREATE UNIQUE INDEX recipients_once ON recipients (notice, rule, conversation)")
  await knex.raw("CREATE INDEX recipients_of ON recipients (notice, id)")
  await knex.raw("CREATE INDEX recipients_due ON recipients (due_at, id) WHERE state = 'waiting'")
  await knex.raw("CREATE INDEX recipients_together ON recipients (conversation, together) WHERE state = 'waiting'")
  await knex.raw("CREATE INDEX recipients_contact ON recipients (contact)")
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE recipients")
  await knex.raw("DROP TABLE notices")
}
