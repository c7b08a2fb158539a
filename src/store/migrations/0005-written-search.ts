import type { Knex } from "knex"

/**
 * What a message is found by is written with it. PostgreSQL reads the expression of a generated column anew in every
 * statement, however few rows it brings. What is there already stays as it is.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw("ALTER TABLE messages ALTER COLUMN search DROP EXPRESSION")
}

export async function down(): Promise<void> {
  throw new Error("Wobbet's tables are not taken down: they hold what was said.")
}
