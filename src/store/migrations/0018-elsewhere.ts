import type { Knex } from "knex"

/** Turns that wait for an answer from elsewhere: from an endpoint, or from a worker that fetches them off a queue. */
export async function up(knex: Knex): Promise<void> {
  // 0: the turn in front waits for nothing; 1: for an answer; 2: the answer is there.
  await knex.raw("ALTER TABLE work ADD COLUMN waits smallint NOT NULL DEFAULT 0")
  // The calls that were made for a turn, and how long it waited.
  await knex.raw("ALTER TABLE turns ADD COLUMN elsewhere jsonb")
  // An answer may come before the turn that waits for it is on record: then only what it says is known.
  await knex.raw(`
    CREATE TABLE waits (
      conversation id PRIMARY KEY,
      -- The first of the turn's messages, and where it stands in the line.
      message id NOT NULL,
      position bigint NOT NULL,
      -- How often it was left from route to route before.
      leg smallint NOT NULL DEFAULT 0,
      kind text,
      -- The endpoint's address, or the queue's name.
      place text,
      bot text,
      lane text,
      channel text,
      -- What the turn is, so that it continues as it began.
      turn jsonb,
      -- What is sent to whoever answers.
      asked jsonb,
      since timestamptz NOT NULL DEFAULT now(),
      until timestamptz,
      -- From when it may be asked, or leased; infinity while nothing but the answer is waited for.
      due_at timestamptz,
      lease text,
      leased_by text,
      leased_at timestamptz,
      leases integer NOT NULL DEFAULT 0,
      calls jsonb NOT NULL DEFAULT '[]',
      answer jsonb,
      answered_at timestamptz,
      xid xid8 NOT NULL DEFAULT pg_current_xact_id()
    ) WITH (fillfactor = 50, autovacuum_vacuum_scale_factor = 0.02, autovacuum_vacuum_cost_delay = 0)`)
  await knex.raw("CREATE INDEX waits_due ON waits (kind, place, due_at) WHERE answer IS NULL")
  await knex.raw("CREATE INDEX waits_to_ask ON waits (due_at) WHERE kind = 'endpoint' AND answer IS NULL")
  // Those that were taken as often as one may be: hardly any, among many that wait.
  await knex.raw("CREATE INDEX waits_given_up ON waits (due_at) WHERE leases >= 5 AND answer IS NULL")
  await knex.raw("CREATE UNIQUE INDEX waits_lease ON waits (lease) WHERE lease IS NOT NULL")
  await knex.raw("CREATE INDEX waits_by_xid ON waits (xid)")
  // A worker's token is good for the turns of one queue alone.
  await knex.raw("ALTER TABLE tokens ADD COLUMN queue text")
  // What an endpoint came to last, for everybody to see: each process has a breaker of its own.
  await knex.raw(`
    CREATE TABLE endpoints (
      address text NOT NULL,
      holder text NOT NULL,
      state text NOT NULL,
      failures integer NOT NULL,
      why text,
      at timestamptz NOT NULL DEFAULT now(),
      -- Until when nothing is asked, while it is open.
      until timestamptz,
      PRIMARY KEY (address, holder)
    )`)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE endpoints")
  await knex.raw("ALTER TABLE tokens DROP COLUMN queue")
  await knex.raw("DROP TABLE waits")
  await knex.raw("ALTER TABLE turns DROP COLUMN elsewhere")
  await knex.raw("ALTER TABLE work DROP COLUMN waits")
}
