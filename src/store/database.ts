import knexPackage from "knex"
import type { Knex } from "knex"
import pg from "pg"
import * as first from "./migrations/0001-first.ts"
import { makePartitions } from "./partitions.ts"

/** The one way to PostgreSQL. Nothing outside `store/` speaks SQL; others pass this on. */
export type Database = Knex

const migrations: { [name: string]: Knex.Migration } = { "0001-first": first }

const migrationSource: Knex.MigrationSource<string> = {
  getMigrations: async () => Object.keys(migrations),
  getMigrationName: (name) => name,
  getMigration: async (name) => migrations[name]!,
}

// Long whole numbers come back as text by default; positions and counts stay far below 2^53.
pg.types.setTypeParser(20, Number)

export function openDatabase(url: string, options: { most?: number } = {}): Database {
  return knexPackage({
    client: "pg",
    connection: { connectionString: url, application_name: "wobbet" },
    pool: { min: 0, max: options.most ?? 12 },
    acquireConnectionTimeout: 10_000,
  })
}

/** Any number: what matters is that every Wobbet process uses the same. */
const migrationLock = 4_180_2026

/**
 * Brings the tables up to date. Two processes starting at once migrate once: the first holds an advisory lock on a
 * connection of its own, which, unlike Knex's lock row, ends with a process that is killed.
 */
export async function migrate(url: string, database: Database, now: Date): Promise<void> {
  const guard = new pg.Client({ connectionString: url })
  await guard.connect()
  try {
    await guard.query("SELECT pg_advisory_lock($1)", [migrationLock])
    const setup = { migrationSource, disableTransactions: false }
    await database.migrate.latest(setup).catch(async (error: unknown) => {
      if (!/lock/i.test(String((error as Error).name) + String((error as Error).message))) throw error
      // Left by a process killed while migrating; nobody else can be migrating now.
      await database.migrate.forceFreeMigrationsLock(setup)
      await database.migrate.latest(setup)
    })
    await makePartitions(database, now)
  } finally {
    await guard.end()
  }
}

/** Rows of one statement, written as SQL with `?` for each value. */
export async function rows<Row>(
  database: Database | Knex.Transaction,
  sql: string,
  values: readonly unknown[] = [],
): Promise<Row[]> {
  const result = (await database.raw(sql, values as Knex.Value[])) as { rows: Row[] }
  return result.rows
}

/** What PostgreSQL's refusal was about: the data given, a moment's conflict, or the server being away. */
export function refusal(error: unknown): "data" | "conflict" | "away" | "other" {
  const code = (error as { code?: string }).code ?? ""
  if (/^(22|23|54)/.test(code)) return "data"
  if (code === "40P01" || code === "40001") return "conflict"
  if (/^(08|57P|53)/.test(code) || /^E[A-Z]+$/.test(code)) return "away"
  if (
    /timeout acquiring|Connection (terminated|ended)|not queryable|aborted|before secure/i.test(
      String((error as Error).message),
    )
  )
    return "away"
  return "other"
}

/** Runs a statement again when it only lost to another's lock. */
export async function retryingConflicts<T>(run: () => Promise<T>): Promise<T> {
  for (let tries = 1; ; tries++) {
    try {
      return await run()
    } catch (error) {
      if (refusal(error) !== "conflict" || tries >= 5) throw error
    }
  }
}
