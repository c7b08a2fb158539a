import type { Knex } from "knex"

/** Which versions have worked on this database, so that one that is too old for it can say which is needed. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE versions (
      version text PRIMARY KEY,
      since timestamptz NOT NULL DEFAULT now()
    );
  `)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE versions")
}
