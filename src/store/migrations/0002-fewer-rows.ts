import type { Knex } from "knex"

/**
 * A message handled wrote fourteen rows; now eleven. An attempt is one row, written when it has ended; while it is under
 * way it stands in the outbox. The rendered calls stand with their message. How many wait in a line is not
 * counted any more: `said` only grows, with every outbound message that joins.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    ALTER TABLE outbox ADD COLUMN started_at timestamptz;
    UPDATE outbox o SET started_at = a.at FROM attempts a
      WHERE o.state = 'sending' AND a.message = o.message AND a.attempt = o.attempt AND a.what = 'started';

    DROP INDEX attempts_by_xid;
    ALTER TABLE attempts ADD COLUMN started_at timestamptz;
    UPDATE attempts e SET started_at = s.at, name = s.name FROM attempts s
      WHERE e.what = 'ended' AND s.message = e.message AND s.attempt = e.attempt AND s.what = 'started';
    UPDATE attempts SET started_at = at WHERE what = 'ended' AND started_at IS NULL;
    DELETE FROM attempts WHERE what = 'started';
    ALTER TABLE attempts DROP CONSTRAINT attempts_pkey;
    ALTER TABLE attempts DROP COLUMN what;
    ALTER TABLE attempts ADD PRIMARY KEY (message, attempt);
    ALTER TABLE attempts ALTER COLUMN started_at SET NOT NULL;
    CREATE INDEX attempts_by_xid ON attempts (xid);

    ALTER TABLE messages ADD COLUMN calls jsonb;
    UPDATE messages m SET calls = k.calls FROM calls k WHERE k.message = m.id;
    DROP TABLE calls;

    ALTER TABLE work RENAME COLUMN unsent TO said;
  `)
}

export async function down(): Promise<void> {
  throw new Error("Wobbet's tables are not taken down: they hold what was said.")
}
