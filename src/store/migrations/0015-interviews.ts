import type { Knex } from "knex"

/**
 * Interviews, what they have behind them, the times they wait for, and side effects on record. Whether anything runs in
 * a conversation stands with its state, which every turn reads anyway.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE states ADD COLUMN running boolean NOT NULL DEFAULT false")
  // Messages up to this position are one turn: a side effect of theirs has begun.
  await knex.raw("ALTER TABLE work ADD COLUMN frozen bigint")
  await knex.raw("ALTER TABLE turns ADD COLUMN interview jsonb")
  await knex.raw(
    "ALTER TABLE contacts ADD COLUMN version integer NOT NULL DEFAULT 0, ADD COLUMN blocked_at timestamptz",
  )
  await knex.raw("ALTER TABLE conversations ADD COLUMN handed_at timestamptz, ADD COLUMN taken_by text")
  await knex.raw("CREATE INDEX contacts_blocked ON contacts (id) WHERE blocked_at IS NOT NULL")
  await knex.raw("CREATE INDEX conversations_waiting ON conversations (handed_at) WHERE answered_by = 'person'")
  await knex.raw(`
    CREATE TABLE interviews (
      id id PRIMARY KEY,
      conversation id NOT NULL,
      who text NOT NULL,
      handler text NOT NULL,
      route text,
      release text NOT NULL,
      stands text NOT NULL CHECK (stands IN ('asks', 'waits', 'set aside', 'ended')),
      waits jsonb,
      mark text NOT NULL,
      entries integer NOT NULL,
      beneath id,
      simulated text,
      begun_at timestamptz NOT NULL DEFAULT clock_timestamp(),
      changed_at timestamptz NOT NULL DEFAULT clock_timestamp(),
      ended_at timestamptz,
      ended text,
      why text
    ) WITH (fillfactor = 70)`)
  await knex.raw("CREATE INDEX interviews_running ON interviews (conversation) WHERE ended_at IS NULL")
  await knex.raw("CREATE INDEX addresses_by_contact ON addresses (contact)")
  await knex.raw("CREATE INDEX interviews_by_person ON interviews (who) WHERE ended_at IS NULL")
  await knex.raw("CREATE INDEX interviews_by_conversation ON interviews (conversation, id)")
  await knex.raw(`
    CREATE TABLE journal (
      interview id NOT NULL,
      n integer NOT NULL,
      entry jsonb NOT NULL,
      PRIMARY KEY (interview, n)
    )`)
  await knex.raw(`
    CREATE TABLE timers (
      id id PRIMARY KEY,
      conversation id NOT NULL,
      interview id NOT NULL,
      mark text NOT NULL,
      what text NOT NULL,
      due_at timestamptz NOT NULL
    )`)
  await knex.raw("CREATE INDEX timers_due ON timers (due_at)")
  await knex.raw("CREATE INDEX timers_by_interview ON timers (interview)")
  await knex.raw(`
    CREATE TABLE onces (
      key text COLLATE "C" PRIMARY KEY,
      conversation id NOT NULL,
      message id NOT NULL,
      name text NOT NULL,
      runs integer NOT NULL DEFAULT 1,
      started_at timestamptz NOT NULL DEFAULT clock_timestamp(),
      ended_at timestamptz,
      value jsonb,
      threw jsonb
    ) WITH (fillfactor = 70)`)
  await knex.raw("CREATE INDEX onces_by_message ON onces (message)")
}

export async function down(knex: Knex): Promise<void> {
  for (const table of ["onces", "timers", "journal", "interviews"]) await knex.raw(`DROP TABLE ${table}`)
  await knex.raw("DROP INDEX contacts_blocked")
  await knex.raw("DROP INDEX addresses_by_contact")
  await knex.raw("ALTER TABLE conversations DROP COLUMN handed_at, DROP COLUMN taken_by")
  await knex.raw("ALTER TABLE contacts DROP COLUMN version, DROP COLUMN blocked_at")
  await knex.raw("ALTER TABLE turns DROP COLUMN interview")
  await knex.raw("ALTER TABLE work DROP COLUMN frozen")
  await knex.raw("ALTER TABLE states DROP COLUMN running")
}
