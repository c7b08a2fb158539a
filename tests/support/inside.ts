import { execFileSync } from "node:child_process"
import { rmSync } from "node:fs"
import { join } from "node:path"
import { Writable } from "node:stream"
import pg from "pg"
import { startOffice } from "../../demo/office.ts"
import { setTheScene } from "../../demo/play.ts"
import { builtFiles } from "../../src/cli/built.ts"
import { makeLog } from "../../src/cli/logging.ts"
import { carryOut } from "../../src/cli/program.ts"
import type { RunningService } from "../../src/service/service.ts"
import { startService } from "../../src/service/service.ts"
import { readServiceSettings } from "../../src/service/settings.ts"
export { startBeacon } from "../../src/standins/beacon/server.ts"
export { startBuoy } from "../../src/standins/buoy/server.ts"
export { startMessenger } from "../../src/standins/messenger/server.ts"
export { startModel } from "../../src/standins/model/server.ts"
export { startSlack } from "../../src/standins/slack/server.ts"
export { startSms } from "../../src/standins/sms/server.ts"
export { startWhatsApp } from "../../src/standins/whatsapp/server.ts"
export { startEmbedded }
import { startTelegram } from "../../src/standins/telegram/server.ts"
import { migrate, openDatabase } from "../../src/store/database.ts"
import type { EmbeddedServer } from "../../src/store/embedded.ts"
import { startEmbedded } from "../../src/store/embedded.ts"
import { inOwnProcess } from "./processOfRun.ts"

// What the tests run in their own process: the built service, stand-ins and command line, loaded once a worker.

/** A service inside the tests' process, on a real port and a real database. */
export async function serveInside(
  env: NodeJS.ProcessEnv,
  botFolder: string | undefined,
  hear: (text: string) => void,
): Promise<RunningService> {
  const log = new Writable({
    write(chunk, _encoding, done) {
      hear(String(chunk))
      done()
    },
  })
  return startService(readServiceSettings(env), {
    files: builtFiles,
    // One process for handlers instead of two: what the second is for is tested on services with a process of their own.
    hostLimits: { hosts: 1 },
    log: makeLog(env, log),
    ...(botFolder === undefined ? {} : { botFolder }),
  })
}

/** What a service does once a day or less often. */
const chores = ["months ahead", "sessions", "leftovers", "keys of events", "statistics"]

/**
 * A database server for the tests, with one database that has today's tables and nothing else: all others are copies.
 */
export async function databaseServerInside(home: string): Promise<EmbeddedServer> {
  const server = await startEmbedded(home)
  const url = await server.database("wobbet_template")
  const database = openDatabase(url, { most: 2 })
  await migrate(url, database, new Date())
  await database.destroy()
  // What is done once a day is done already: a service does it soon after it starts, and few tests look at it.
  await query(url, `INSERT INTO chores (name, done_at) SELECT unnest('{${chores.join()}}'::text[]), now()`)
  await forgetDatabase(url)
  const client = new pg.Client({ connectionString: server.ownerUrl("postgres")! })
  await client.connect()
  // Nothing here outlives the tests: the server need not wait for a disk, nor keep what a copy of it would need. Those
  // that are stopped under load are servers of their own.
  const settings = { fsync: "off", full_page_writes: "off", synchronous_commit: "off", autovacuum: "off" }
  for (const [name, value] of Object.entries({ ...settings, wal_level: "minimal", max_wal_senders: "0" }))
    await client.query(`ALTER SYSTEM SET ${name} = ${value}`)
  await client.end()
  await server.stop()
  // A server of a test's own begins with a copy of this one, with PostgreSQL's own settings.
  execFileSync("cp", ["-a", join(home, "database"), join(home, "cluster")])
  rmSync(join(home, "cluster/postgresql.auto.conf"))
  return startEmbedded(home)
}

/**
 * What `wobbet standins` starts: Telegram with the ferry's cast, and the harbour office.
 *
 * @param pace whether it refuses what comes faster than the provider puts up with
 */
export async function standinsInside(
  ports: { telegram: number; office: number },
  pace: boolean,
): Promise<{ stop(): Promise<void> }> {
  const standin = await startTelegram({ port: ports.telegram, pace })
  setTheScene(standin)
  const office = await startOffice(ports.office)
  return {
    async stop() {
      await standin.stop()
      await office.stop()
    },
  }
}

const known = new Map<string, pg.Pool>()

/** Rows of a statement; the connection is kept for the next one. */
export async function query(database: string, sql: string): Promise<unknown[]> {
  let pool = known.get(database)
  if (!pool) {
    pool = new pg.Pool({ connectionString: database, max: 4, idleTimeoutMillis: 2000, allowExitOnIdle: true })
    // A server that a test stops ends what is kept.
    pool.on("error", () => undefined)
    known.set(database, pool)
  }
  const found = (await pool.query(sql)) as pg.QueryResult | pg.QueryResult[]
  return Array.isArray(found) ? found.at(-1)!.rows : found.rows
}

/** Ends the connections to a database that are kept. */
export async function forgetDatabase(database: string): Promise<void> {
  await known.get(database)?.end()
  known.delete(database)
}

/** One command, to its end. */
export function runInside(args: string[], env: NodeJS.ProcessEnv): Promise<{ code: number; out: string; err: string }> {
  const argv = ["node", "wobbet", ...args]
  return inOwnProcess(argv, env, () => carryOut(argv))
}
