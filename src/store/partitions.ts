import type { Knex } from "knex"
import type { IdPrefix } from "./ids.ts"
import { idAt } from "./ids.ts"

const partitioned: { table: string; prefix: IdPrefix }[] = [
  { table: "intakes", prefix: "itk" },
  { table: "messages", prefix: "msg" },
  { table: "turns", prefix: "msg" },
  { table: "attempts", prefix: "msg" },
]

/** Makes the month before `now` (a clock may lag), its own and two ahead, where they are missing. */
export async function makePartitions(knex: Knex, now: Date): Promise<void> {
  for (const ahead of [-1, 0, 1, 2]) {
    const from = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + ahead, 1))
    const to = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + ahead + 1, 1))
    const month = from.toISOString().slice(0, 7).replace("-", "_")
    for (const { table, prefix } of partitioned) {
      await knex.raw(
        `CREATE TABLE IF NOT EXISTS ${table}_${month} PARTITION OF ${table} FOR VALUES FROM ('${idAt(prefix, from)}') TO ('${idAt(prefix, to)}')`,
      )
    }
  }
}
