import type { Knex } from "knex"

/**
 * Gateway profiles beside those that ship; channels that wait for a call to learn from; tokens that are good for one
 * channel alone; and calls that wait to be fetched by a service that cannot be reached.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE profiles (
      name text PRIMARY KEY,
      source text NOT NULL,
      -- 'folder' for a bot folder's, 'learned', or 'set' by hand.
      origin text NOT NULL,
      changed_at timestamptz NOT NULL DEFAULT now()
    );

    -- Who waits for a call to learn from, and until when.
    ALTER TABLE channels ADD COLUMN learning jsonb;
    -- Who fetches this channel's calls, and until when that holds without another word.
    ALTER TABLE channels ADD COLUMN bringing jsonb;

    -- The call a channel learned from, sealed: nobody knows yet which of its fields is a secret.
    CREATE TABLE samples (
      channel text PRIMARY KEY,
      sealed text NOT NULL,
      at timestamptz NOT NULL DEFAULT now()
    );

    ALTER TABLE tokens ADD COLUMN channel text;

    -- Calls kept for a service elsewhere, sealed, in the order of their acceptance; gone once it has taken them.
    CREATE TABLE brought (
      position bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
      id id NOT NULL UNIQUE,
      channel text NOT NULL,
      sealed text NOT NULL,
      kept_at timestamptz NOT NULL DEFAULT now(),
      handed_at timestamptz
    );
    -- The last refused call is asked for by itself, and the oldest are forgotten. Genuine calls pay nothing for it.
    CREATE INDEX intakes_refused ON intakes (channel, id) WHERE NOT genuine;

    CREATE INDEX brought_by_channel ON brought (channel, position);
  `)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw(`
    DROP INDEX intakes_refused;
    DROP TABLE brought, samples, profiles;
    ALTER TABLE tokens DROP COLUMN channel;
    ALTER TABLE channels DROP COLUMN learning, DROP COLUMN bringing;
  `)
}
