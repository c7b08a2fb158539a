import type { Knex } from "knex"

/** What is to be done now and then, by one process and not by all: when it was done last, and who is at it. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE chores (
      name text PRIMARY KEY,
      done_at timestamptz,
      holder text,
      until timestamptz
    );
  `)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE chores")
}
