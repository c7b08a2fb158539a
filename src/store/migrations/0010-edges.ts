import type { Knex } from "knex"

/**
 * Tokens that expire, are revoked and tell when they were used last; sessions that can be listed and ended; an audit that
 * can only grow; secrets that are about to be replaced; and what is needed to bound media.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    ALTER TABLE tokens
      ADD COLUMN made_by text,
      ADD COLUMN expires_at timestamptz,
      ADD COLUMN revoked_at timestamptz,
      ADD COLUMN last_used_at timestamptz;

    -- Names become unique among the tokens in use: of two alike the later one gets its number.
    UPDATE tokens SET name = tokens.name || ' (' || twins.nth || ')'
      FROM (SELECT id, row_number() OVER (PARTITION BY name ORDER BY created_at, id) AS nth FROM tokens) AS twins
      WHERE tokens.id = twins.id AND twins.nth > 1;
    CREATE UNIQUE INDEX tokens_name ON tokens (name) WHERE revoked_at IS NULL;

    -- Whoever is signed in to the console signs in again: a session now knows the token it came from.
    DELETE FROM sessions;
    ALTER TABLE sessions
      ADD COLUMN id id NOT NULL UNIQUE,
      -- Null for a one-time sign-in that belongs to no token.
      ADD COLUMN token text,
      ADD COLUMN address text,
      ADD COLUMN started_at timestamptz NOT NULL DEFAULT now(),
      ADD COLUMN seen_at timestamptz NOT NULL DEFAULT now();

    ALTER TABLE audit
      -- The id of the token or session it was done with.
      ADD COLUMN token text,
      ADD COLUMN address text;
    CREATE FUNCTION audit_only_grows() RETURNS trigger LANGUAGE plpgsql AS $$
      BEGIN
        RAISE EXCEPTION 'the audit only grows: nothing in it is changed or deleted';
      END
    $$;
    CREATE TRIGGER audit_only_grows BEFORE UPDATE OR DELETE ON audit
      FOR EACH ROW EXECUTE FUNCTION audit_only_grows();
    CREATE TRIGGER audit_is_not_emptied BEFORE TRUNCATE ON audit
      FOR EACH STATEMENT EXECUTE FUNCTION audit_only_grows();

    ALTER TABLE channels
      -- Secrets that still verify calls until they are dropped, sealed, by name.
      ADD COLUMN former jsonb NOT NULL DEFAULT '{}',
      -- A removed channel stays as the name of what was said on it, without settings and secrets.
      ADD COLUMN removed_at timestamptz;
  `)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw(`
    DROP TRIGGER audit_only_grows ON audit;
    DROP TRIGGER audit_is_not_emptied ON audit;
    DROP FUNCTION audit_only_grows;
    ALTER TABLE audit DROP COLUMN token, DROP COLUMN address;
    ALTER TABLE sessions DROP COLUMN id, DROP COLUMN token, DROP COLUMN address, DROP COLUMN started_at, DROP COLUMN seen_at;
    DROP INDEX tokens_name;
    ALTER TABLE tokens DROP COLUMN made_by, DROP COLUMN expires_at, DROP COLUMN revoked_at, DROP COLUMN last_used_at;
    ALTER TABLE channels DROP COLUMN former, DROP COLUMN removed_at;
  `)
}
