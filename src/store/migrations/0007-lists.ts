import type { Knex } from "knex"

/**
 * What lists and searches go by, so that none of them walks through the record. Nearly all are indexes of what is rare,
 * and cost nothing where it does not happen. Three are written with every message: a channel's messages by their ids, the
 * conversations by what was said last, and when an attempt was made (by ranges of blocks: next to nothing).
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE INDEX messages_by_channel ON messages (channel, id);
    CREATE INDEX messages_by_event ON messages (event, id) WHERE event <> 'text';
    CREATE INDEX turns_by_outcome ON turns (outcome, message) WHERE outcome <> 'handled';
    CREATE INDEX attempts_not_accepted ON attempts (message) WHERE outcome <> 'accepted';
    CREATE INDEX attempts_by_time ON attempts USING brin (at);
    CREATE INDEX statuses_failed ON statuses (intake) WHERE status = 'failed';

    CREATE INDEX parked_by_channel ON parked (channel, id);
    CREATE INDEX parked_open_by_channel ON parked (channel, id) WHERE decided_at IS NULL;
    CREATE INDEX parked_open_by_conversation ON parked (conversation) WHERE decided_at IS NULL;
    CREATE INDEX parked_open_by_message ON parked (message) WHERE decided_at IS NULL;
    CREATE INDEX parked_dropped ON parked (message) WHERE decision = 'drop';

    CREATE INDEX parked_by_xid ON parked (xid);

    CREATE INDEX work_by_last ON work (channel, last_id);
    CREATE INDEX places_by_address ON places (address);
    CREATE INDEX addresses_by_address ON addresses (address);

    -- Compared with statuses.trace: with two collations no index serves.
    DROP INDEX attempts_by_trace;
    ALTER TABLE attempts ALTER COLUMN trace TYPE text COLLATE "C";
    -- With the message, so that a status, which is told of something recent, is looked for in the newest month first.
    CREATE INDEX attempts_by_trace ON attempts (trace, message) WHERE trace IS NOT NULL;
  `)
  await byParts(knex)
}

/**
 * Names are looked for by any part of them, for which PostgreSQL has an extension that ships with it. A server without
 * it, or one that does not allow it, looks through the names within a time limit.
 */
async function byParts(knex: Knex): Promise<void> {
  await knex.raw("SAVEPOINT by_parts")
  try {
    await knex.raw(`
      CREATE EXTENSION IF NOT EXISTS pg_trgm;
      CREATE INDEX conversations_by_title ON conversations USING gin (title gin_trgm_ops);
      CREATE INDEX addresses_by_name ON addresses USING gin (name gin_trgm_ops);
      CREATE INDEX addresses_by_handle ON addresses USING gin (handle gin_trgm_ops);
    `)
  } catch {
    await knex.raw("ROLLBACK TO SAVEPOINT by_parts")
  }
}

export async function down(): Promise<void> {
  throw new Error("Wobbet's tables are not taken down: they hold what was said.")
}
