import { createHash } from "node:crypto"
import knexPackage from "knex"
import type { Knex } from "knex"
import pg from "pg"
import * as first from "./migrations/0001-first.ts"
import * as fewerRows from "./migrations/0002-fewer-rows.ts"
import * as moreKinds from "./migrations/0003-more-kinds.ts"
import * as gateways from "./migrations/0004-gateways.ts"
import * as writtenSearch from "./migrations/0005-written-search.ts"
import * as chores from "./migrations/0006-chores.ts"
import * as lists from "./migrations/0007-lists.ts"
import * as saidElsewhere from "./migrations/0008-said-elsewhere.ts"
import * as underWay from "./migrations/0009-under-way.ts"
import * as edges from "./migrations/0010-edges.ts"
import * as versions from "./migrations/0011-versions.ts"
import * as fetched from "./migrations/0012-fetched.ts"
import * as addressShown from "./migrations/0013-address-shown.ts"
import * as deciding from "./migrations/0014-deciding.ts"
import * as interviews from "./migrations/0015-interviews.ts"
import * as forgetting from "./migrations/0016-forgetting.ts"
import * as secrets from "./migrations/0017-secrets.ts"
import * as elsewhere from "./migrations/0018-elsewhere.ts"
import * as models from "./migrations/0019-models.ts"
import * as notices from "./migrations/0020-notices.ts"
import * as relays from "./migrations/0021-relays.ts"
import * as topics from "./migrations/0022-topics.ts"
import * as countedFromSaid from "./migrations/0023-counted-from-said.ts"
import * as stoppedForState from "./migrations/0024-stopped-for-state.ts"
import { makePartitions } from "./partitions.ts"

/** The one way to PostgreSQL. Nothing outside `store/` speaks SQL; others pass this on. */
export type Database = Knex

const migrations: { [name: string]: Knex.Migration } = {
  "0001-first": first,
  "0002-fewer-rows": fewerRows,
  "0003-more-kinds": moreKinds,
  "0004-gateways": gateways,
  "0005-written-search": writtenSearch,
  "0006-chores": chores,
  "0007-lists": lists,
  "0008-said-elsewhere": saidElsewhere,
  "0009-under-way": underWay,
  "0010-edges": edges,
  "0011-versions": versions,
  "0012-fetched": fetched,
  "0013-address-shown": addressShown,
  "0014-deciding": deciding,
  "0015-interviews": interviews,
  "0016-forgetting": forgetting,
  "0017-secrets": secrets,
  "0018-elsewhere": elsewhere,
  "0019-models": models,
  "0020-notices": notices,
  "0021-relays": relays,
  "0022-topics": topics,
  "0023-counted-from-said": countedFromSaid,
  "0024-stopped-for-state": stoppedForState,
}

const migrationSource: Knex.MigrationSource<string> = {
  getMigrations: async () => Object.keys(migrations),
  getMigrationName: (name) => name,
  getMigration: async (name) => migrations[name]!,
}

// Long whole numbers come back as text by default; positions and counts stay far below 2^53.
pg.types.setTypeParser(20, Number)

/**
 * Every statement here touches few rows and goes by an index. Plans made while the tables are still empty are kept and
 * must be right when they are full: without these, a kept plan read all of `states` for each batch (3 ms of 4), and
 * PostgreSQL compiled statements that run for a millisecond (2.6 s instead of 0.6 s for 6000 messages).
 */
const planning =
  "SET jit = off; SET enable_seqscan = off; SET random_page_cost = 1.1; SET plan_cache_mode = force_generic_plan"

/** Seconds a new connection may take to come about. */
const connectWithin = 5

/**
 * @param options.most connections at a time
 * @param options.limit seconds one statement may take. The server is told to end it then; a server that does not even
 *   do that, because it hangs or the network swallows what it says, loses the connection a second later, and the
 *   statement fails as it does when the server is away. Without it a statement may take as long as it likes.
 */
export function openDatabase(url: string, options: { most?: number; limit?: number } = {}): Database {
  const { limit } = options
  const prepared = limit === undefined ? planning : `${planning}; ${limits(limit)}`
  return knexPackage({
    client: "pg",
    connection: {
      connectionString: url,
      application_name: "wobbet",
      connectionTimeoutMillis: connectWithin * 1000,
      keepAlive: true,
      keepAliveInitialDelayMillis: 10_000,
    },
    pool: {
      min: 0,
      max: options.most ?? 12,
      afterCreate: (connection: pg.Client, done: (error: Error | null, connection: pg.Client) => void) => {
        if (limit !== undefined) watch(connection, limit + 1, url)
        leaveReadOnly(connection)
        connection.query(prepared, (error) => done(error, connection))
      },
    },
    acquireConnectionTimeout: 10_000,
    // Whoever asked hears of it, and says so once.
    log: { warn: () => undefined, error: () => undefined, deprecate: () => undefined, debug: () => undefined },
  })
}

function limits(seconds: number): string {
  return `SET statement_timeout = '${seconds}s'; SET idle_in_transaction_session_timeout = '60s'`
}

/** A server that has become read-only may write again, and a session that was opened meanwhile may not: it is given up. */
function leaveReadOnly(connection: pg.Client): void {
  const { connection: wire } = connection as unknown as { connection: Wire }
  wire.on("errorMessage", ({ code }) => {
    if (code === "25006") wire.stream.destroy(new Error("Connection terminated: the server is read-only"))
  })
}

/** What stands beneath a connection. */
interface Wire {
  stream: { destroy: (error: Error) => void }
  on(event: "errorMessage" | "error", listener: (error: { code?: string }) => void): void
}

/**
 * Tells the server to stop what it still does for a connection that was given up: a commit that waits for another server
 * keeps its rows locked. By the protocol's own request, which names the session by a key that no other has.
 */
function cancel(url: string, target: pg.Client): void {
  const messenger = new pg.Client({ connectionString: url }) as unknown as {
    connection: Wire
    cancel(target: pg.Client, query: unknown): void
  }
  // A server that does not answer ends what it did by its own limits.
  messenger.connection.on("error", () => undefined)
  messenger.cancel(target, (target as unknown as { activeQuery: unknown }).activeQuery)
}

/** Ends a connection whose server has not answered a statement for so many seconds. */
function watch(connection: pg.Client, seconds: number, url: string): void {
  let askedAt: number | undefined
  const query = connection.query.bind(connection) as (...given: unknown[]) => unknown
  connection.query = ((...given: unknown[]) => {
    askedAt = performance.now()
    return query(...given)
  }) as typeof connection.query
  connection.on("drain", () => (askedAt = undefined))
  const timer = setInterval(() => {
    if (askedAt === undefined || performance.now() - askedAt < seconds * 1000) return
    clearInterval(timer)
    cancel(url, connection)
    const { connection: wire } = connection as unknown as { connection: Wire }
    wire.stream.destroy(new Error(`Connection terminated: the server did not answer for ${seconds} s`))
  }, 500)
  timer.unref()
  connection.on("end", () => clearInterval(timer))
}

/** The database was written by a later version than this one. */
export class TooNew extends Error {
  constructor(readonly needed: string) {
    super(`The database was written by Wobbet ${needed}, and this is ${VERSION}.`)
  }
}

/** Refuses tables this version does not know, before anything is changed. */
async function refuseLater(database: Database): Promise<void> {
  const [table] = await rows<{ there: boolean }>(
    database,
    "SELECT to_regclass('public.knex_migrations') IS NOT NULL AS there",
  )
  if (!table!.there) return
  const done = await rows<{ name: string }>(database, "SELECT name FROM knex_migrations")
  if (done.every(({ name }) => Object.hasOwn(migrations, name))) return
  const [last] = await rows<{ version: string }>(
    database,
    "SELECT version FROM versions ORDER BY since DESC, version DESC LIMIT 1",
  ).catch(() => [])
  throw new TooNew(last?.version ?? "of a later version")
}

/** Any number: what matters is that every Wobbet process uses the same. */
const migrationLock = 4_180_2026

/**
 * Brings the tables up to date. Two processes starting at once migrate once: the first holds an advisory lock on a
 * connection of its own, which, unlike Knex's lock row, ends with a process that is killed.
 */
export async function migrate(url: string, database: Database, now: Date): Promise<void> {
  const guard = new pg.Client({ connectionString: url })
  // A server that goes away meanwhile is noticed by whatever is asked next.
  guard.on("error", () => undefined)
  await guard.connect()
  try {
    await guard.query("SELECT pg_advisory_lock($1)", [migrationLock])
    await refuseLater(database)
    const setup = { migrationSource, disableTransactions: false }
    await database.migrate.latest(setup).catch(async (error: unknown) => {
      if (!/lock/i.test(String((error as Error).name) + String((error as Error).message))) throw error
      // Left by a process killed while migrating; nobody else can be migrating now.
      await database.migrate.forceFreeMigrationsLock(setup)
      await database.migrate.latest(setup)
    })
    await makePartitions(database, now)
    await rows(database, "INSERT INTO versions (version) VALUES (?) ON CONFLICT DO NOTHING", [VERSION])
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

/**
 * Rows of a statement that is planned for its values: they stand in it as literals. For searches, where the right plan
 * depends on how common a word is, and for ranges of ids, by which the planner leaves out whole months.
 */
export function plannedRows<Row>(
  database: Database,
  sql: string,
  values: readonly (string | number)[],
): Promise<Row[]> {
  let n = 0
  const text = sql.replace(/\?/g, () => {
    const value = values[n++]!
    return typeof value === "number" ? String(value) : pg.escapeLiteral(value)
  })
  return withConnection(database, async (connection) => (await connection.query(text)).rows as Row[])
}

async function withConnection<T>(database: Database, run: (connection: pg.Client) => Promise<T>): Promise<T> {
  const client = database.client as HotClient
  const connection = await client.acquireConnection()
  try {
    return await run(connection)
  } finally {
    await client.releaseConnection(connection)
  }
}

let naming = true

/**
 * Rows of a statement that runs for every message. It is prepared under a name, so that PostgreSQL plans it once a
 * connection: planning was a quarter of the database's time under load (0.14 of 0.57 ms a message), and at low load the
 * larger part of a step's wait. The name is the text's hash: behind a pooling proxy, which may hand the next statement
 * to another server connection, a name is either unknown there or means the same; unknown, the statement did nothing,
 * runs again without a name, and names are given up.
 */
export function hotRows<Row>(
  database: Database,
  asked: Statement | string,
  values: readonly unknown[],
): Promise<Row[]> {
  return hotly<Row>(database, asked, values, false)
}

/**
 * The same with each row as the list of its values: the driver makes objects of more than some dozen fields in the form
 * JavaScript is slowest with.
 */
export function hotLists<List extends unknown[]>(
  database: Database,
  asked: Statement | string,
  values: readonly unknown[],
): Promise<List[]> {
  return hotly<List>(database, asked, values, true)
}

async function hotly<Row>(
  database: Database,
  asked: Statement | string,
  values: readonly unknown[],
  lists: boolean,
): Promise<Row[]> {
  const { text, name } = typeof asked === "string" ? statement(asked, () => asked) : asked
  const query: pg.QueryConfig & { rowMode?: "array" } = { text, values: values as unknown[] }
  if (naming) query.name = name
  if (lists) query.rowMode = "array"
  try {
    return await withConnection(database, async (connection) => (await connection.query(query)).rows as Row[])
  } catch (error) {
    const { code } = error as { code?: string }
    if (!naming || (code !== "26000" && code !== "42P05")) throw error
    naming = false
  }
  return hotly(database, asked, values, lists)
}

/** Knex's own pool, asked for a connection without its query builder in between. */
interface HotClient {
  acquireConnection(): Promise<pg.Client>
  releaseConnection(connection: pg.Client): Promise<void>
}

/** A statement as it is sent, and the name it is prepared under. */
export interface Statement {
  text: string
  name: string
}

const statements = new Map<string, Statement>()

/**
 * A statement that was asked before is not put together again: building and hashing some four thousand characters for
 * every batch showed in a profile under load (about a hundredth).
 *
 * @param key tells it from every other statement
 */
export function statement(key: string, sql: () => string): Statement {
  let found = statements.get(key)
  if (!found) {
    let n = 0
    const text = sql().replace(/\?/g, () => `$${++n}`)
    found = { text, name: createHash("sha256").update(text).digest("hex").slice(0, 40) }
    statements.set(key, found)
  }
  return found
}

/** What was wrong with a statement that failed: the data given, a moment's conflict, or the server being away. */
export function databaseFault(error: unknown): "data" | "conflict" | "away" | "other" {
  const code = (error as { code?: string }).code ?? ""
  if (/^(22|23|54)/.test(code)) return "data"
  if (code === "40P01" || code === "40001") return "conflict"
  // A statement that was ended because its time was over says nothing about its data.
  if (/^(08|57|53|55P03|25P03|25006)/.test(code) || isNetwork(error as { code?: string; syscall?: string }))
    return "away"
  if (
    /timeout (acquiring|expired)|Connection (terminated|ended)|not queryable|aborted|before secure/i.test(
      String((error as Error).message),
    )
  )
    return "away"
  return "other"
}

/** A fault of a connection, and not of a file: those have codes of the same kind. */
function isNetwork({ code, syscall }: { code?: string; syscall?: string }): boolean {
  return (
    syscall === "connect" ||
    /^(E(CONN|HOST|NET)[A-Z]+|EPIPE|ETIMEDOUT|ENOTFOUND|EAI_AGAIN|EADDRNOTAVAIL)$/.test(code ?? "")
  )
}

/** Runs a statement again when it only lost to another's lock. */
export async function retryingConflicts<T>(run: () => Promise<T>): Promise<T> {
  for (let tries = 1; ; tries++) {
    try {
      return await run()
    } catch (error) {
      if (databaseFault(error) !== "conflict" || tries >= 5) throw error
    }
  }
}

/** How busy a database's connections are. */
export function poolOf(database: Database): { used: number; waiting: number } {
  const { pool } = database.client as { pool?: { numUsed(): number; numPendingAcquires(): number } }
  return { used: pool?.numUsed() ?? 0, waiting: pool?.numPendingAcquires() ?? 0 }
}
