import type { Limits } from "../core/model/model.ts"
import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** Whose use of a model is counted, and on which day of the bot's zone. */
export interface Spender {
  bot: string
  model: string
  /** The contact's id; the conversation's where nobody is named. */
  who: string
  /** ISO 8601. */
  day: string
}

/** What is used, or may be used at most. */
export interface Spent {
  calls: number
  tokens: number
  money: number
}

/** Everybody of a bot together. */
const everybody = "*"

/**
 * Reserves what a call may cost at most, under the person's row, over all processes. Gives which limit keeps it from being
 * made; nothing where it may be. What is reserved and never settled, as in a crash, stays counted for its day.
 */
export async function reserve(
  database: Database,
  { bot, model, who, day }: Spender,
  dearest: Spent,
  limits: Limits,
): Promise<{ of: "person" | "all"; limit: keyof Spent } | undefined> {
  return database.transaction(async (step) => {
    const counted = (
      [
        ["person", who],
        ["all", everybody],
      ] as const
    ).filter(([of]) => limits[of])
    for (const [of, by] of counted) {
      const most = limits[of]!
      const [before] = await rows<Spent>(
        step,
        `INSERT INTO spending AS s (bot, model, who, day) VALUES (?, ?, ?, ?)
         ON CONFLICT (bot, model, day, who) DO UPDATE SET calls = s.calls RETURNING calls, tokens::float8 AS tokens, money`,
        [bot, model, by, day],
      )
      const limit = (["calls", "tokens", "money"] as const).find(
        (name) => most[name] !== undefined && before![name] + dearest[name] > most[name],
      )
      if (limit) return { of, limit }
    }
    for (const [, by] of counted)
      await rows(
        step,
        `UPDATE spending SET calls = calls + ?, tokens = tokens + ?, money = money + ?
         WHERE bot = ? AND model = ? AND day = ? AND who = ?`,
        [dearest.calls, dearest.tokens, dearest.money, bot, model, day, by],
      )
    return undefined
  })
}

/**
 * Puts what a call did cost in the place of what was reserved for it. Where nothing is reserved for everybody together,
 * what it did cost is counted all the same.
 */
export async function settle(
  database: Database,
  { bot, model, who, day }: Spender,
  reserved: Spent,
  spent: Spent,
  limits: Limits,
): Promise<void> {
  const by = [...(limits.person ? [who] : []), ...(limits.all ? [everybody] : [])]
  if (by.length > 0)
    await rows(
      database,
      `UPDATE spending SET calls = greatest(0, calls + ?), tokens = greatest(0, tokens + ?), money = greatest(0, money + ?)
       WHERE bot = ? AND model = ? AND day = ? AND who = ANY(?)`,
      [spent.calls - reserved.calls, spent.tokens - reserved.tokens, spent.money - reserved.money, bot, model, day, by],
    )
  if (limits.all) return
  await rows(
    database,
    `INSERT INTO spending AS s (bot, model, who, day, calls, tokens, money) VALUES (?, ?, ?, ?, ?, ?, ?)
     ON CONFLICT (bot, model, day, who) DO UPDATE SET calls = s.calls + excluded.calls, tokens = s.tokens + excluded.tokens, money = s.money + excluded.money`,
    [bot, model, everybody, day, spent.calls, spent.tokens, spent.money],
  )
}

/** What is used of a model, with what is reserved of it for calls under way. */
export interface Used extends Spent {
  model: string
  /** Of whoever used most: what comes nearest to a person's limits. */
  most: Spent
}

/** What is used of a bot's models on a day of its zone (ISO 8601). */
export async function usedOn(database: Database, bot: string, day: string): Promise<Used[]> {
  return rows(
    database,
    `SELECT model, coalesce(max(calls) FILTER (WHERE who = ?), 0) AS calls,
       coalesce(max(tokens) FILTER (WHERE who = ?), 0)::float8 AS tokens, coalesce(max(money) FILTER (WHERE who = ?), 0) AS money,
       json_build_object('calls', coalesce(max(calls) FILTER (WHERE who <> ?), 0), 'tokens', coalesce(max(tokens) FILTER (WHERE who <> ?), 0),
         'money', coalesce(max(money) FILTER (WHERE who <> ?), 0)) AS most
     FROM spending WHERE bot = ? AND day = ? GROUP BY model`,
    [...Array.from({ length: 6 }, () => everybody), bot, day],
  )
}
