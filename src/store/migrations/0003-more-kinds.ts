import type { Knex } from "knex"

/**
 * What the kinds beside the first one need. Delivery statuses are kept under the provider's id of a call (its trace, with
 * the channel before it), since one may come before the answer to the call itself is on record. Only kinds that tell of
 * delivery have traces, so the index costs the others nothing.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    ALTER TABLE attempts ADD COLUMN trace text;
    CREATE INDEX attempts_by_trace ON attempts (trace) WHERE trace IS NOT NULL;

    DROP TABLE statuses;
    CREATE TABLE statuses (
      trace text COLLATE "C" NOT NULL,
      status text NOT NULL,
      why text,
      provider_id text,
      at timestamptz NOT NULL,
      intake id,
      xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
      PRIMARY KEY (trace, status)
    );
    CREATE INDEX statuses_by_intake ON statuses (intake);
    CREATE INDEX statuses_by_xid ON statuses (xid);

    -- Everything said in a place until a time was delivered, or read.
    CREATE TABLE read_marks (
      channel text NOT NULL,
      address text NOT NULL,
      status text NOT NULL,
      up_to timestamptz NOT NULL,
      xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
      PRIMARY KEY (channel, address, status)
    ) WITH (fillfactor = 70);

    CREATE INDEX read_marks_by_xid ON read_marks (xid);

    -- Decisions are told by the live stream too.
    ALTER TABLE parked ADD COLUMN decided_xid xid8;
    CREATE INDEX parked_by_decision ON parked (decided_xid) WHERE decided_xid IS NOT NULL;

    -- The options that were offered last, so that "2" or a label typed by hand is the choice it names.
    ALTER TABLE states ADD COLUMN offered jsonb;
    -- What a text was taken for, where that is not what it says.
    ALTER TABLE turns ADD COLUMN taken_as jsonb;

    ALTER TABLE conversations ADD COLUMN opted_out timestamptz;

    -- What people sent, once by its content; and which message it came with. Fetched after the message was taken.
    CREATE TABLE media (
      hash text COLLATE "C" PRIMARY KEY,
      mime text NOT NULL,
      size integer NOT NULL,
      content bytea NOT NULL,
      kept_at timestamptz NOT NULL DEFAULT now()
    );
    ALTER TABLE media ALTER COLUMN content SET STORAGE EXTERNAL;
    CREATE TABLE message_media (
      message id NOT NULL,
      n integer NOT NULL,
      channel text NOT NULL,
      ref text NOT NULL,
      state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'kept', 'failed')),
      hash text,
      why text,
      tries integer NOT NULL DEFAULT 0,
      due_at timestamptz NOT NULL DEFAULT now(),
      PRIMARY KEY (message, n)
    ) WITH (fillfactor = 70);
    -- What a provider keeps of ours, and until when: brought there once a channel.
    CREATE TABLE uploads (
      channel text NOT NULL,
      hash text COLLATE "C" NOT NULL,
      mime text NOT NULL,
      ref text NOT NULL,
      until timestamptz NOT NULL,
      PRIMARY KEY (channel, hash, mime)
    );
    CREATE INDEX message_media_due ON message_media (due_at) WHERE state = 'waiting';
  `)
}

export async function down(): Promise<void> {
  throw new Error("Wobbet's tables are not taken down: they hold what was said.")
}
