import type { Database } from "./database.ts"
import { hotRows } from "./database.ts"
import { elsewhere } from "./waits.ts"

/** What waits, of all channels. */
export interface Backlog {
  /** Conversations with something to do. */
  lines: number
  /** Turns that wait for an answer from elsewhere; those at endpoints together, under no queue's name. */
  waits: { kind: string; queue: string; waiting: number; leased: number; oldest: number }[]
  outbox: {
    channel: string
    kind: string
    on: boolean
    waiting: number
    doubts: number
    parked: number
  }[]
}

/** How much waits at the moment; by small tables alone. */
export async function backlog(database: Database): Promise<Backlog> {
  const [work] = await hotRows<{ lines: number }>(
    database,
    `SELECT count(*)::int AS lines FROM work WHERE due_at IS NOT NULL AND holder IS DISTINCT FROM '${elsewhere}'`,
    [],
  )
  const outbox = await hotRows<Backlog["outbox"][number]>(
    database,
    `SELECT c.key AS channel, c.kind, c.state = 'on' AS on, coalesce(o.waiting, 0) AS waiting,
       coalesce(o.doubts, 0) + coalesce(p.doubts, 0) AS doubts, coalesce(p.parked, 0) AS parked
     FROM channels c
     LEFT JOIN (SELECT channel, count(*)::int AS waiting, (count(*) FILTER (WHERE doubted))::int AS doubts
       FROM outbox GROUP BY channel) o ON o.channel = c.key
     LEFT JOIN (SELECT channel, count(*)::int AS parked, (count(*) FILTER (WHERE cause = 'doubt'))::int AS doubts
       FROM parked WHERE decided_at IS NULL GROUP BY channel) p ON p.channel = c.key
     WHERE c.removed_at IS NULL ORDER BY c.key`,
    [],
  )
  const waits = await hotRows<Backlog["waits"][number]>(
    database,
    `SELECT kind, CASE WHEN kind = 'queue' THEN place ELSE '' END AS queue,
       (count(*) FILTER (WHERE kind <> 'queue' OR lease IS NULL OR due_at <= now()))::int AS waiting,
       (count(*) FILTER (WHERE kind = 'queue' AND lease IS NOT NULL AND due_at > now()))::int AS leased,
       extract(epoch FROM now() - min(since))::float8 AS oldest
     FROM waits WHERE kind IS NOT NULL AND answer IS NULL GROUP BY 1, 2`,
    [],
  )
  return { lines: work!.lines, waits, outbox }
}
