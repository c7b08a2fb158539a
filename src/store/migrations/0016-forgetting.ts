import type { Knex } from "knex"

/**
 * Codes by which people are joined, and people who are forgotten: what is left to be looked through, and what stays of their wish to be sent nothing. The audit
 * still only grows, but a forgetting may empty what an entry tells besides who did what and when.
 */
export async function up(knex: Knex): Promise<void> {
  // told_at: when the desk was told that it waits for a person. no_notices: since when they want nothing that starts here.
  await knex.raw(
    "ALTER TABLE conversations ADD COLUMN forgotten_at timestamptz, ADD COLUMN told_at timestamptz, ADD COLUMN no_notices timestamptz",
  )
  // Nobody is told of what waits already.
  await knex.raw("UPDATE conversations SET told_at = now() WHERE answered_by = 'person'")
  await knex.raw(`
    CREATE TABLE forgettings (
      id id PRIMARY KEY,
      contact id NOT NULL,
      asked_by text NOT NULL,
      asked_at timestamptz NOT NULL,
      -- Keyed hashes of the addresses: what a restored backup is compared with.
      marks jsonb NOT NULL,
      -- The addresses themselves, by which calls are looked through; null once that is over.
      addresses jsonb,
      conversations text[] NOT NULL,
      -- How far it has come.
      looked jsonb NOT NULL,
      removed jsonb NOT NULL DEFAULT '{}',
      holder text,
      until timestamptz,
      ended_at timestamptz
    ) WITH (fillfactor = 50)`)
  await knex.raw("CREATE INDEX forgettings_open ON forgettings (id) WHERE ended_at IS NULL")
  await knex.raw(`
    CREATE TABLE opt_outs (
      channel text NOT NULL,
      mark text NOT NULL,
      opted_out timestamptz,
      no_notices timestamptz,
      PRIMARY KEY (channel, mark)
    )`)
  // What somebody says on a second channel to be known there as well; only a keyed hash of it is kept.
  await knex.raw(`
    CREATE TABLE join_codes (
      mark text PRIMARY KEY,
      contact id NOT NULL,
      made_by text NOT NULL,
      until timestamptz NOT NULL,
      wrong integer NOT NULL DEFAULT 0,
      -- The message by which it was used.
      used_by id
    )`)
  // Whether a picture is anybody else's is looked up by its content.
  // People are found by a tag, and conversations by their person.
  await knex.raw("CREATE INDEX contacts_by_tag ON contacts USING gin (tags)")
  await knex.raw("CREATE INDEX conversations_by_contact ON conversations (contact) WHERE contact IS NOT NULL")
  await knex.raw("CREATE INDEX interviews_by_who ON interviews (who)")
  await knex.raw("CREATE INDEX message_media_by_hash ON message_media (hash) WHERE hash IS NOT NULL")
  await knex.raw(`
    CREATE FUNCTION not_forgotten(at timestamptz) RETURNS integer LANGUAGE plpgsql AS $$
      BEGIN
        IF at IS NOT NULL THEN
          RAISE EXCEPTION 'the person of this conversation was forgotten' USING ERRCODE = 'WB001';
        END IF;
        RETURN 0;
      END
    $$`)
  await knex.raw(`
    CREATE OR REPLACE FUNCTION audit_only_grows() RETURNS trigger LANGUAGE plpgsql AS $$
      BEGIN
        IF TG_OP = 'UPDATE' AND current_setting('wobbet.forgetting', true) = 'on' THEN
          IF NEW.detail IS NULL AND (NEW.id, NEW.who, NEW.did, NEW.at, NEW.token, NEW.address) IS NOT DISTINCT FROM
            (OLD.id, OLD.who, OLD.did, OLD.at, OLD.token, OLD.address) THEN
            RETURN NEW;
          END IF;
        END IF;
        RAISE EXCEPTION 'the audit only grows: nothing in it is changed or deleted';
      END
    $$`)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE OR REPLACE FUNCTION audit_only_grows() RETURNS trigger LANGUAGE plpgsql AS $$
      BEGIN
        RAISE EXCEPTION 'the audit only grows: nothing in it is changed or deleted';
      END
    $$`)
  await knex.raw("DROP FUNCTION not_forgotten")
  await knex.raw("DROP INDEX message_media_by_hash, contacts_by_tag, conversations_by_contact, interviews_by_who")
  await knex.raw("DROP TABLE join_codes")
  await knex.raw("DROP TABLE opt_outs")
  await knex.raw("DROP TABLE forgettings")
  await knex.raw("ALTER TABLE conversations DROP COLUMN forgotten_at, DROP COLUMN told_at, DROP COLUMN no_notices")
}
