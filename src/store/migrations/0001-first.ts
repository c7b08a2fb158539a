import type { Knex } from "knex"

/**
 * Rows that say what happened are only ever appended, and partitioned by month through their ids. What changes (claims,
 * state, the line of unsent messages) stands in narrow tables with room for in-place updates.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE DOMAIN id AS text COLLATE "C";

    CREATE TABLE channels (
      key text PRIMARY KEY,
      kind text NOT NULL,
      settings jsonb NOT NULL,
      sealed jsonb NOT NULL,
      state text NOT NULL DEFAULT 'on' CHECK (state IN ('on', 'paused', 'locked out')),
      reason text,
      remedy text,
      resumed_at timestamptz,
      bot text,
      lane text NOT NULL DEFAULT 'live',
      identity jsonb,
      checked_at timestamptz,
      created_at timestamptz NOT NULL DEFAULT now()
    );

    CREATE TABLE processes (
      id text PRIMARY KEY,
      machine text NOT NULL,
      pid integer NOT NULL,
      seen_at timestamptz NOT NULL DEFAULT now()
    );

    -- One process sends for a channel and one polls it; the poll's offset is kept with the messages it brought.
    CREATE TABLE leases (
      channel text NOT NULL,
      duty text NOT NULL CHECK (duty IN ('send', 'poll')),
      holder text,
      until timestamptz,
      poll_offset text,
      PRIMARY KEY (channel, duty)
    );

    CREATE TABLE intakes (
      id id PRIMARY KEY,
      channel text NOT NULL,
      via text NOT NULL,
      method text NOT NULL,
      address text NOT NULL,
      headers jsonb NOT NULL,
      body bytea NOT NULL,
      genuine boolean NOT NULL,
      verdict jsonb NOT NULL,
      unreadable text,
      notes jsonb,
      event_keys text[] NOT NULL,
      answered integer,
      received_at timestamptz NOT NULL DEFAULT clock_timestamp()
    ) PARTITION BY RANGE (id);
    CREATE INDEX intakes_by_channel ON intakes (channel, id);

    -- Not partitioned: a redelivery may come after the month has turned.
    CREATE TABLE seen (
      channel text NOT NULL,
      event_key text COLLATE "C" NOT NULL,
      message id NOT NULL,
      PRIMARY KEY (channel, event_key)
    );

    CREATE TABLE contacts (
      id id PRIMARY KEY,
      name text,
      created_at timestamptz NOT NULL DEFAULT now()
    );
    CREATE TABLE addresses (
      channel text NOT NULL,
      address text NOT NULL,
      contact id NOT NULL,
      name text,
      handle text,
      language text,
      PRIMARY KEY (channel, address)
    );

    CREATE TABLE conversations (
      id id PRIMARY KEY,
      channel text NOT NULL,
      address text NOT NULL,
      kind text NOT NULL,
      title text,
      topic text,
      contact text,
      answered_by text NOT NULL DEFAULT 'bot',
      created_at timestamptz NOT NULL DEFAULT now()
    );
    -- Every address a conversation is or was reached under: a group that moved keeps its conversation.
    CREATE TABLE places (
      channel text NOT NULL,
      address text NOT NULL,
      topic text NOT NULL DEFAULT '',
      conversation id NOT NULL,
      PRIMARY KEY (channel, address, topic)
    );
    CREATE INDEX places_by_conversation ON places (conversation);

    CREATE TABLE states (
      conversation id PRIMARY KEY,
      state jsonb NOT NULL,
      window_end timestamptz
    ) WITH (fillfactor = 60);

    CREATE TABLE messages (
      id id PRIMARY KEY,
      channel text NOT NULL,
      conversation id NOT NULL,
      direction text NOT NULL,
      event text NOT NULL,
      position bigint NOT NULL,
      origin text NOT NULL,
      author text,
      intake id,
      turn id,
      provider_id text,
      body jsonb NOT NULL,
      courtesies jsonb,
      words text NOT NULL,
      search tsvector GENERATED ALWAYS AS (to_tsvector('simple', left(words, 100000))) STORED,
      sent_at timestamptz,
      received_at timestamptz NOT NULL DEFAULT clock_timestamp(),
      xid xid8 NOT NULL DEFAULT pg_current_xact_id()
    ) PARTITION BY RANGE (id);
    CREATE INDEX messages_by_line ON messages (conversation, position);
    CREATE INDEX messages_by_xid ON messages (xid);
    CREATE INDEX messages_by_words ON messages USING gin (search);

    CREATE TABLE turns (
      message id NOT NULL,
      turn id NOT NULL,
      lead id NOT NULL,
      conversation id NOT NULL,
      outcome text NOT NULL,
      reason text,
      route text,
      handler text,
      release text,
      slots jsonb,
      state_before jsonb,
      state_after jsonb,
      replies text[],
      log jsonb,
      error jsonb,
      degraded jsonb,
      run integer NOT NULL DEFAULT 1,
      started_at timestamptz NOT NULL,
      ended_at timestamptz NOT NULL DEFAULT clock_timestamp(),
      xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
      PRIMARY KEY (message, turn)
    ) PARTITION BY RANGE (message);
    CREATE INDEX turns_by_xid ON turns (xid);

    -- heard: everything up to this position has had its turn. due_at: when somebody should look; while held, the end
    -- of the claim; null, nothing to do; infinity, the channel is paused. unsent: how many stand in the outbox.
    CREATE TABLE work (
      conversation id PRIMARY KEY,
      channel text NOT NULL,
      due_at timestamptz,
      holder text,
      fence bigint NOT NULL DEFAULT 0,
      next_position bigint NOT NULL DEFAULT 1,
      heard bigint NOT NULL DEFAULT 0,
      unsent integer NOT NULL DEFAULT 0,
      tries integer NOT NULL DEFAULT 0,
      minute_at timestamptz,
      minute_turns integer NOT NULL DEFAULT 0,
      bot_turns integer NOT NULL DEFAULT 0,
      last_id id
    ) WITH (fillfactor = 50, autovacuum_vacuum_scale_factor = 0.02, autovacuum_vacuum_cost_delay = 0);
    CREATE INDEX work_due ON work (due_at) WHERE due_at IS NOT NULL;

    -- What was parked and is tried again stands in the line once more, at its end.
    CREATE TABLE rejoined (
      conversation id NOT NULL,
      position bigint NOT NULL,
      message id NOT NULL,
      PRIMARY KEY (conversation, position)
    );

    CREATE TABLE calls (
      message id PRIMARY KEY,
      calls jsonb NOT NULL
    ) PARTITION BY RANGE (message);

    -- The line of what is not yet taken by the provider. Rows go when a message is settled, so it stays small.
    CREATE TABLE outbox (
      conversation id NOT NULL,
      position bigint NOT NULL,
      channel text NOT NULL,
      message id NOT NULL,
      state text NOT NULL CHECK (state IN ('waiting', 'sending')),
      due_at timestamptz NOT NULL,
      holder text,
      call integer NOT NULL DEFAULT 0,
      tries integer NOT NULL DEFAULT 0,
      attempt integer NOT NULL DEFAULT 0,
      doubted boolean NOT NULL DEFAULT false,
      why text,
      PRIMARY KEY (conversation, position)
    ) WITH (fillfactor = 70, autovacuum_vacuum_scale_factor = 0.02, autovacuum_vacuum_cost_delay = 0);
    CREATE INDEX outbox_due ON outbox (channel, due_at);

    CREATE TABLE attempts (
      message id NOT NULL,
      attempt integer NOT NULL,
      what text NOT NULL CHECK (what IN ('started', 'ended')),
      call integer NOT NULL,
      name text,
      outcome text,
      why text,
      status integer,
      answer text,
      provider_id text,
      holder text,
      at timestamptz NOT NULL DEFAULT clock_timestamp(),
      xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
      PRIMARY KEY (message, attempt, what)
    ) PARTITION BY RANGE (message);
    CREATE INDEX attempts_by_xid ON attempts (xid) WHERE what = 'ended';
    CREATE INDEX attempts_doubtful ON attempts (message) WHERE outcome = 'unclear';

    CREATE TABLE statuses (
      message id NOT NULL,
      status text NOT NULL,
      why text,
      at timestamptz NOT NULL,
      PRIMARY KEY (message, status)
    ) PARTITION BY RANGE (message);

    CREATE TABLE parked (
      id id PRIMARY KEY,
      what text NOT NULL CHECK (what IN ('turn', 'send')),
      cause text NOT NULL,
      reason text NOT NULL,
      remedy text,
      channel text NOT NULL,
      conversation id NOT NULL,
      message id NOT NULL,
      since timestamptz NOT NULL DEFAULT clock_timestamp(),
      decision text,
      decided_by text,
      decided_at timestamptz,
      xid xid8 NOT NULL DEFAULT pg_current_xact_id()
    );
    CREATE INDEX parked_open ON parked (id) WHERE decided_at IS NULL;
    CREATE INDEX parked_by_message ON parked (message);

    CREATE TABLE choice_tokens (
      channel text NOT NULL,
      token text NOT NULL,
      choice text NOT NULL,
      label text NOT NULL,
      PRIMARY KEY (channel, token)
    );

    CREATE TABLE releases (
      id text PRIMARY KEY,
      bot text NOT NULL,
      definition jsonb NOT NULL,
      bundle text,
      created_at timestamptz NOT NULL DEFAULT now()
    );
    CREATE TABLE lanes (
      bot text NOT NULL,
      lane text NOT NULL,
      release text NOT NULL,
      moved_at timestamptz NOT NULL DEFAULT now(),
      PRIMARY KEY (bot, lane)
    );

    CREATE TABLE sends (
      key text NOT NULL,
      author text NOT NULL,
      fingerprint text NOT NULL,
      answer jsonb NOT NULL,
      at timestamptz NOT NULL DEFAULT now(),
      PRIMARY KEY (author, key)
    );

    CREATE TABLE tokens (
      id id PRIMARY KEY,
      hash text NOT NULL UNIQUE,
      name text NOT NULL,
      role text NOT NULL,
      created_at timestamptz NOT NULL DEFAULT now()
    );
    CREATE TABLE sessions (
      hash text PRIMARY KEY,
      kind text NOT NULL CHECK (kind IN ('once', 'session')),
      csrf text,
      name text NOT NULL,
      role text NOT NULL,
      until timestamptz NOT NULL
    );
    CREATE TABLE audit (
      id id PRIMARY KEY,
      who text NOT NULL,
      did text NOT NULL,
      detail jsonb,
      at timestamptz NOT NULL DEFAULT now()
    );
  `)
}

export async function down(): Promise<void> {
  throw new Error("Wobbet's tables are not taken down: they hold what was said.")
}
