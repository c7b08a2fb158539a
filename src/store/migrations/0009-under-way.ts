import type { Knex } from "knex"

/** Turns whose handler has been running for a while, so that what they are about is not shown as waiting. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    CREATE TABLE under_way (
      conversation id PRIMARY KEY,
      -- Of the claim it belongs to: a row that a process left behind means nothing under another one.
      fence bigint NOT NULL,
      messages text[] NOT NULL,
      handler text NOT NULL,
      since timestamptz NOT NULL,
      xid xid8 NOT NULL DEFAULT pg_current_xact_id()
    );
  `)
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw("DROP TABLE under_way")
}
