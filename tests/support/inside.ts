import { readFileSync } from "node:fs"
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
import { startTelegram } from "../../src/standins/telegram/server.ts"
import { migrate, openDatabase } from "../../src/store/database.ts"
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
    log: makeLog(env, log),
    ...(botFolder === undefined ? {} : { botFolder }),
  })
}

/**
 * A database server for the tests, with one database that has today's tables and nothing else: all others are copies.
 */
export async function databaseServerInside(home: string): Promise<{ stop(): Promise<void> }> {
  const server = await startEmbedded(home)
  const url = await server.database("wobbet_template")
  const database = openDatabase(url, { most: 2 })
  await migrate(url, database, new Date())
  await database.destroy()
  const owner = JSON.parse(readFileSync(join(home, "database.json"), "utf8")) as { password: string; port: number }
  const client = new pg.Client({ user: "wobbet", host: "127.0.0.1", database: "postgres", ...owner })
  await client.connect()
  // Nothing here outlives the tests: the server need not wait for a disk. Those that are stopped under load do.
  for (const setting of ["fsync", "full_page_writes", "synchronous_commit"])
    await client.query(`ALTER SYSTEM SET ${setting} = off`)
  await client.query("SELECT pg_reload_conf()")
  await client.end()
  return server
}

/** What `wobbet standins` starts: Telegram with the ferry's cast, and the harbour office. */
export async function standinsInside(ports: { telegram: number; office: number }): Promise<{ stop(): Promise<void> }> {
  const standin = await startTelegram({ port: ports.telegram })
  setTheScene(standin)
  const office = await startOffice(ports.office)
  return {
    async stop() {
      await standin.stop()
      await office.stop()
    },
  }
}

/** One command, to its end. */
export function runInside(args: string[], env: NodeJS.ProcessEnv): Promise<{ code: number; out: string; err: string }> {
  const argv = ["node", "wobbet", ...args]
  return inOwnProcess(argv, env, () => carryOut(argv))
}
