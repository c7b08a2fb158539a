import { spawn } from "node:child_process"
import { createHash } from "node:crypto"
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Database } from "./database.ts"
import { migrate, openDatabase, rows } from "./database.ts"
import { binaries } from "./embedded.ts"
import type { MarkOf } from "./directory.ts"
import type { Remembered } from "./forgetting.ts"
import { beginForgetting, forgettingsOnRecord, lookOn, peopleToForget } from "./forgetting.ts"
import { newId } from "./ids.ts"
import { record } from "./access.ts"

/** Something about a backup is not as it must be: what, and what to do. */
export class BackupTrouble extends Error {
  constructor(
    message: string,
    readonly remedy: string,
  ) {
    super(message)
  }
}

/** What a backup says of itself: `manifest.json` in its folder. */
export interface Manifest {
  /** The version that made it. */
  wobbet: string
  madeAt: string
  /** Tells the key its secrets are sealed with from every other, without telling the key. */
  keyMark: string
  /** Whether that key lies in the backup. */
  holdsKey: boolean
}

const files = { manifest: "manifest.json", database: "database.dump", key: "seal-key" }

/** What waits in a restored service for a person's decision. */
export interface Restored {
  manifest: Manifest
  /** Channels whose sending is off. */
  channels: string[]
  replies: number
  turns: number
  /** People who were forgotten after the backup was made, and were forgotten again. */
  forgotten: number
}

export const keyMark = (key: string): string => createHash("sha256").update(key.trim()).digest("hex").slice(0, 12)

/**
 * Writes a database into a new folder, as it stands at one moment; the service may go on meanwhile.
 *
 * @param key the seal key; laid into the folder unless `holdsKey` is false
 * @param progress told now and then how many bytes are written
 */
export async function makeBackup(
  folder: string,
  from: { url: string; key: string; holdsKey: boolean; version: string; now: Date },
  progress: (bytes: number) => void,
): Promise<Manifest & { bytes: number }> {
  if (existsSync(folder) && readdirSync(folder).length > 0)
    throw new BackupTrouble(
      `The folder ${folder} is not empty.`,
      "Name a new one: each backup has a folder of its own.",
    )
  mkdirSync(folder, { recursive: true, mode: 0o700 })
  const dump = join(folder, files.database)
  // Made before the dump, so that others cannot read it while it grows.
  writeFileSync(dump, "", { mode: 0o600 })
  const timer = setInterval(() => progress(statSync(dump).size), 500)
  try {
    await tool("pg_dump", from.url, ["--format=custom", "--no-owner", "--no-privileges", `--file=${dump}`])
  } catch (error) {
    rmSync(dump, { force: true })
    throw error
  } finally {
    clearInterval(timer)
  }
  const manifest: Manifest = {
    wobbet: from.version,
    madeAt: from.now.toISOString(),
    keyMark: keyMark(from.key),
    holdsKey: from.holdsKey,
  }
  if (from.holdsKey) writeFileSync(join(folder, files.key), `${from.key.trim()}\n`, { mode: 0o600 })
  // Last: a folder without it is not a backup.
  writeFileSync(join(folder, files.manifest), `${JSON.stringify(manifest, null, 2)}\n`, { mode: 0o600 })
  return { ...manifest, bytes: statSync(dump).size }
}

export function readManifest(folder: string): Manifest & { key: string | undefined } {
  let manifest: Manifest
  try {
    manifest = JSON.parse(readFileSync(join(folder, files.manifest), "utf8")) as Manifest
  } catch {
    throw new BackupTrouble(
      `${folder} is not a backup, or one that was not finished: its manifest.json cannot be read.`,
      'Name a folder that "wobbet backup" has made.',
    )
  }
  const key = manifest.holdsKey ? readFileSync(join(folder, files.key), "utf8").trim() : undefined
  return { ...manifest, key }
}

/**
 * Brings a backup into an empty database, and its tables up to date. Nothing that waited is done by itself: sending is
 * off on every channel, and what was not answered or sent when the backup was made is parked, since the service it was
 * made from may have done it after that.
 *
 * @param options.replace whether whatever is in the database is dropped first
 * @param step told what is being done
 */
export async function restoreBackup(
  folder: string,
  options: { url: string; replace: boolean; now: Date; forgotten: Remembered[]; markOf: MarkOf },
  step: (says: string) => void,
): Promise<Restored> {
  const { key: _key, ...manifest } = readManifest(folder)
  const { url, markOf } = options
  const dump = join(folder, files.database)
  const database = openDatabase(url, { most: 2 })
  try {
    const forgotten = [...options.forgotten, ...(await forgettingsOnRecord(database))]
    await makeEmpty(database, options.replace)
    const restore = (section: string) =>
      tool("pg_restore", url, [
        `--section=${section}`,
        "--no-owner",
        "--no-privileges",
        "--no-comments",
        "--exit-on-error",
        `--dbname=${bare(url)}`,
        dump,
      ])
    step("reading the tables")
    await restore("pre-data")
    await forgetTransactions(database)
    step("reading the record")
    await restore("data")
    await rows(database, `DROP SCHEMA ${forgetting} CASCADE`)
    step("building the indexes")
    await restore("post-data")
    step("bringing the tables up to date")
    await migrate(url, database, options.now)
    const again = await forgetAgain(database, manifest, { forgotten, markOf, now: options.now }, step)
    step("turning sending off")
    return { manifest, forgotten: again, ...(await holdBack(database, manifest)) }
  } finally {
    await database.destroy()
  }
}

async function makeEmpty(database: Database, replace: boolean): Promise<void> {
  const [found] = await rows<{ tables: number; others: number }>(
    database,
    `SELECT (SELECT count(*) FROM pg_class WHERE relnamespace = 'public'::regnamespace AND relkind IN ('r', 'p')) AS tables,
       (SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'wobbet%'
         AND pid <> pg_backend_pid()) AS others`,
  )
  if (found!.others > 0)
    throw new BackupTrouble("A service uses this database just now.", "Stop it first, and restore again.")
  if (found!.tables === 0) return
  if (!replace)
    throw new BackupTrouble(
      "The database is not empty.",
      "Restore into a new one (another WOBBET_HOME or DATABASE_URL), or drop what it holds with --replace.",
    )
  await rows(database, "DROP SCHEMA public CASCADE")
  await rows(database, "CREATE SCHEMA public")
}

/** People who asked to be forgotten after the backup was made are forgotten in it as well. Gives how many. */
async function forgetAgain(
  database: Database,
  { madeAt }: Manifest,
  given: { forgotten: Remembered[]; markOf: MarkOf; now: Date },
  step: (says: string) => void,
): Promise<number> {
  const { markOf, now } = given
  const since = given.forgotten.filter(({ at }) => at > madeAt)
  if (since.length === 0) return 0
  const contacts = await peopleToForget(database, since, markOf)
  for (const [n, contact] of contacts.entries()) {
    step(`forgetting again who was forgotten since, ${n + 1} of ${contacts.length}`)
    let row = await beginForgetting(database, { id: newId("fgt"), contact, by: "restore", at: now, markOf })
    while (row && row.endedAt === null) row = await lookOn(database, row)
    await record(database, { name: "restore" }, "person forgotten", { contact, forgetting: row?.id })
  }
  return contacts.length
}

const forgetting = "forget_transactions"

/**
 * Rows tell by the number of their transaction when they became visible. Another server counts from the beginning: with their old
 * numbers the rows would seem to be from the future, and be told as news when the count comes to them.
 */
async function forgetTransactions(database: Database): Promise<void> {
  const columns = await rows<{ table: string; column: string }>(
    database,
    `SELECT c.oid::regclass::text AS table, a.attname AS column FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid
     WHERE a.atttypid = 'xid8'::regtype AND c.relnamespace = 'public'::regnamespace AND c.relkind IN ('r', 'p')
       AND NOT c.relispartition`,
  )
  // One that was broken off may have left its own.
  await rows(database, `DROP SCHEMA IF EXISTS ${forgetting} CASCADE`)
  await rows(database, `CREATE SCHEMA ${forgetting}`)
  const tables = [...new Set(columns.map(({ table }) => table))]
  for (const [n, table] of tables.entries()) {
    const forget = columns
      .filter((one) => one.table === table)
      .map(({ column }) => `IF NEW.${column} IS NOT NULL THEN NEW.${column} := '3'; END IF;`)
    const name = `${forgetting}.of_table_${n}`
    await rows(
      database,
      `CREATE FUNCTION ${name}() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN ${forget.join(" ")} RETURN NEW; END $$`,
    )
    await rows(
      database,
      `CREATE TRIGGER ${forgetting} BEFORE INSERT ON ${table} FOR EACH ROW EXECUTE FUNCTION ${name}()`,
    )
  }
}

/** Parks what waited, and turns sending off. */
async function holdBack(database: Database, { madeAt }: Manifest): Promise<Omit<Restored, "manifest" | "forgotten">> {
  const at = `${madeAt.slice(0, 16).replace("T", " ")} UTC`
  return database.transaction(async (step) => {
    const off = await rows<{ key: string }>(
      step,
      `UPDATE channels SET state = 'paused', reason = ?, remedy = 'Look through what is parked, then resume it with "wobbet channel resume ' || key || '".'
       WHERE removed_at IS NULL AND state = 'on' RETURNING key`,
      [`restored from the backup of ${at}: nothing is sent until a person resumes it`],
    )
    const replies = await rows<Waiting>(step, "DELETE FROM outbox RETURNING channel, conversation, message")
    const turns = await rows<Waiting>(
      step,
      `SELECT w.channel, w.conversation, m.id AS message FROM work w JOIN messages m ON m.conversation = w.conversation
         AND m.position > w.heard AND m.direction = 'in' WHERE w.due_at IS NOT NULL
       UNION SELECT w.channel, w.conversation, r.message FROM work w JOIN rejoined r ON r.conversation = w.conversation
         AND r.position > w.heard`,
    )
    await park(step, "send", `the backup of ${at} was made before it was sent; it may have been sent since`, replies)
    await park(
      step,
      "turn",
      `the backup of ${at} was made before it was answered; it may have been answered since`,
      turns,
    )
    await rows(
      step,
      "UPDATE work SET due_at = NULL, holder = NULL, fence = fence + 1, tries = 0, heard = next_position - 1, waits = 0",
    )
    // Times that were over meanwhile may have been told by the old service: what waited for them ends.
    await rows(
      step,
      `UPDATE interviews SET stands = 'ended', ended = 'stopped', ended_at = now(), waits = NULL, why = ?
       WHERE ended_at IS NULL AND id IN (SELECT interview FROM timers WHERE due_at <= now())`,
      [`the backup of ${at} was made before the time it waited for was over; it may have gone on since`],
    )
    await rows(step, "DELETE FROM timers t USING interviews i WHERE i.id = t.interview AND i.ended_at IS NOT NULL")
    for (const table of ["rejoined", "under_way", "leases", "processes", "sessions", "waits", "endpoints"])
      await rows(step, `DELETE FROM ${table}`)
    return { channels: off.map(({ key }) => key).sort(), replies: replies.length, turns: turns.length }
  })
}

interface Waiting {
  channel: string
  conversation: string
  message: string
}

async function park(database: Database, what: "send" | "turn", reason: string, waiting: Waiting[]): Promise<void> {
  if (waiting.length === 0) return
  await rows(
    database,
    `INSERT INTO parked (id, what, cause, reason, remedy, channel, conversation, message)
     SELECT i.id, ?, 'restored', ?, 'Look whether the person has it: drop it if so, retry it if not.', i.channel, i.conversation, i.message
     FROM unnest(?::text[], ?::text[], ?::text[], ?::text[]) AS i (id, channel, conversation, message)`,
    [
      what,
      reason,
      waiting.map(() => newId("prk")),
      waiting.map(({ channel }) => channel),
      waiting.map(({ conversation }) => conversation),
      waiting.map(({ message }) => message),
    ],
  )
}

/** Without the password, which everybody on the machine could read among a program's arguments. */
function bare(url: string): string {
  return url
    .replace(/^(\w+:\/\/[^:@/]*):[^@]*@/, "$1@")
    .replace(/([?&])password=[^&]*&?/, "$1")
    .replace(/[?&]$/, "")
}

function passwordIn(url: string): string {
  return decodeURIComponent(/^\w+:\/\/[^:@/]*:([^@]*)@/.exec(url)?.[1] ?? /[?&]password=([^&]*)/.exec(url)?.[1] ?? "")
}

/** Runs one of PostgreSQL's own programs. */
async function tool(name: "pg_dump" | "pg_restore", url: string, args: string[]): Promise<void> {
  const program = join(binaries(), name)
  if (!existsSync(program))
    throw new BackupTrouble(
      `PostgreSQL's ${name} is not on this machine.`,
      'Install it with "apt-get install postgresql-client".',
    )
  const password = passwordIn(url)
  const child = spawn(program, name === "pg_dump" ? [...args, `--dbname=${bare(url)}`] : args, {
    env: { PATH: process.env.PATH ?? "", LC_ALL: "C.UTF-8", ...(password ? { PGPASSWORD: password } : {}) },
    stdio: ["ignore", "ignore", "pipe"],
  })
  let said = ""
  child.stderr.on("data", (chunk: Buffer) => (said = (said + chunk.toString()).slice(-2000)))
  const code = await new Promise<number | null>((resolve, reject) => {
    child.on("error", reject)
    child.on("close", resolve)
  })
  if (code === 0) return
  const why = said
    .split("\n")
    .filter(Boolean)
    .map((line) => line.replace(/^\w+: (error: )?/, ""))
    .slice(0, 3)
    .join(" ")
  throw new BackupTrouble(
    `${name} failed: ${why || `exit code ${code}`}.`,
    name === "pg_dump"
      ? "Is the server up, and no newer than pg_dump here? Nothing was backed up."
      : "Is the backup whole, and the server no older than the one it was made from? Restore again with --replace.",
  )
}
