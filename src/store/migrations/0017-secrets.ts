import type { Knex } from "knex"

/** Secrets of a bot, by name, sealed. A lane may have its own. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE secrets (
      bot text NOT NULL,
      -- Empty for all lanes.
      lane text NOT NULL DEFAULT '',
      name text NOT NULL,
      sealed text NOT NULL,
      set_by text NOT NULL,
      set_at timestamptz NOT NULL DEFAULT now(),
      PRIMARY KEY (bot, lane, name)
    )`)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE secrets")
}
