import type { Knex } from "knex"

/**
 * What staff wrote with the account in their own hands came back and was kept as if a person had said it. It went out, and
 * is ours, said by somebody else. Found by the turns it got, which answered nothing.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    UPDATE messages m SET direction = 'out', origin = 'elsewhere',
      author = CASE c.kind WHEN 'whatsapp' THEN 'the business app' ELSE 'the page''s inbox or another application' END
    FROM turns t, channels c
    WHERE t.outcome = 'own' AND m.id = t.message AND m.direction = 'in' AND m.body->'own' = 'true'
      AND m.event <> 'template-status' AND c.key = m.channel AND c.kind IN ('whatsapp', 'messenger')
  `)
}

export async function down(): Promise<void> {
  throw new Error("Wobbet's tables are not taken down: they hold what was said.")
}
