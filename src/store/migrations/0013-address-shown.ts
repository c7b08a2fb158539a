import type { Knex } from "knex"

/** The column is 0011's; databases that a first build of 0.5.0 upgraded had run 0011 before it held that. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE channels ADD COLUMN IF NOT EXISTS address_shown text")
}

/** Nothing: 0011 takes the column away. */
export async function down(): Promise<void> {}
