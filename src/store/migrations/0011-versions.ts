import type { Knex } from "knex"

/**
 * Which versions have worked on this database, so that one that is too old for it can say which is needed; and for which
 * secret a channel's whole address was shown, since that is shown once.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE versions (
      version text PRIMARY KEY,
      since timestamptz NOT NULL DEFAULT now()
    );
    ALTER TABLE channels ADD COLUMN address_shown text;
  `)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE versions; ALTER TABLE channels DROP COLUMN address_shown")
}
