import type { Database } from "./database.ts"
import { hotRows, rows } from "./database.ts"

/** Days for which the tally is kept. */
const keptDays = 400

/**
 * Sums up what the last two hours have written, by the hour: with every batch of turns come rows of its own, so that
 * batches never wait for each other.
 */
export async function sumUpTally(database: Database): Promise<void> {
  await rows(
    database,
    `WITH gone AS (DELETE FROM tally WHERE at >= date_trunc('hour', now() - interval '1 hour') RETURNING *)
     INSERT INTO tally (at, bot, route, hits, failures, milliseconds, slowest, last_at)
     SELECT date_trunc('hour', at), bot, route, sum(hits), sum(failures), sum(milliseconds), max(slowest), max(last_at)
     FROM gone GROUP BY 1, 2, 3`,
    [],
  )
  await rows(database, `DELETE FROM tally WHERE at < now() - interval '${keptDays} days'`, [])
}

/** What one route did; the empty name stands for what no route took. */
export interface RouteTally {
  route: string
  hits: number
  failures: number
  milliseconds: number
  slowest: number
  lastAt: Date
  /** Hits by step, the oldest first. */
  chart: number[]
}

/**
 * What a bot's routes did in the last so many steps.
 *
 * @param step in hours
 */
export async function talliesOf(database: Database, bot: string, steps: number, step: number): Promise<RouteTally[]> {
  const found = await hotRows<Omit<RouteTally, "chart"> & { back: number }>(
    database,
    `SELECT route, sum(hits)::int AS hits, sum(failures)::int AS failures, sum(milliseconds)::float8 AS milliseconds,
       max(slowest) AS slowest, max(last_at) AS "lastAt",
       floor(extract(epoch FROM date_trunc('hour', now()) + interval '1 hour' - at - interval '1 second') / (3600 * ?::float8))::int AS back
     FROM tally WHERE bot = ? AND at >= date_trunc('hour', now()) + interval '1 hour' - ?::float8 * interval '1 hour'
     GROUP BY route, back`,
    [step, bot, steps * step],
  )
  const all = new Map<string, RouteTally>()
  for (const { back, ...row } of found) {
    const tally = all.get(row.route) ?? {
      ...row,
      hits: 0,
      failures: 0,
      milliseconds: 0,
      chart: Array<number>(steps).fill(0),
    }
    tally.hits += row.hits
    tally.failures += row.failures
    tally.milliseconds += row.milliseconds
    tally.slowest = Math.max(tally.slowest, row.slowest)
    if (row.lastAt > tally.lastAt) tally.lastAt = row.lastAt
    tally.chart[steps - 1 - Math.max(0, Math.min(steps - 1, back))]! += row.hits
    all.set(row.route, tally)
  }
  return [...all.values()]
}
