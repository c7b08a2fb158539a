import { existsSync, mkdirSync, readFileSync, writeFileSync } from "node:fs"
import { join, resolve } from "node:path"
import type { Command } from "commander"
import type { EmbeddedServer } from "../store/embedded.ts"
import { counted } from "../client/counted.ts"
import { CommandFault } from "./context.ts"
import { asJson, colors, print } from "./output.ts"

interface Options {
  database: string
  json?: boolean
}

/** `wobbet backup` and `wobbet restore`: on the machine of the service, beside it or without it. */
export function backupCommands(program: Command): void {
  const database = "of the embedded server; the demo's is wobbet_demo"
  program
    .command("backup")
    .description("write the whole record into a new folder; the service may go on meanwhile")
    .argument("<folder>", "a folder that is not there yet")
    .option("--without-key", "leave the key out that the channels' secrets are sealed with")
    .option("--database <name>", database, "wobbet")
    .option("--json", "for programs")
    .addHelpText("after", "\nIt reads WOBBET_HOME and DATABASE_URL, as the service does.")
    .action(backup)
  program
    .command("restore")
    .description("read a backup into an empty database; nothing is sent until a person resumes the channels")
    .argument("<folder>", 'a folder that "wobbet backup" has made')
    .option("--replace", "drop what the database holds")
    .option("--database <name>", database, "wobbet")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
To move to a PostgreSQL of your own:
  wobbet backup before-the-move
  (stop the service)
  DATABASE_URL=postgres://wobbet:…@db.example/wobbet wobbet restore before-the-move`,
    )
    .action(restore)
}

async function backup(folder: string, options: Options & { withoutKey?: boolean }): Promise<void> {
  const { makeBackup } = await import("../store/backup.ts")
  const to = resolve(folder)
  const key = await keyHere()
  if (key === undefined)
    throw new CommandFault(
      `There is no seal key in ${await home()}.`,
      "Is WOBBET_HOME that of the service? A key given by WOBBET_SEAL_KEY must be given here, too.",
    )
  const made = await withDatabase(options.database, (url) =>
    told(() =>
      makeBackup(
        to,
        { url, key, holdsKey: options.withoutKey !== true, version: VERSION, now: new Date() },
        progress(options),
      ),
    ),
  )
  if (asJson(options, { folder: to, ...made })) return
  print(`${colors.green("●")} Backed up into ${colors.bold(to)}, ${megabytes(made.bytes)}.`)
  print(
    made.holdsKey
      ? "  It holds the key that opens the channels' secrets: keep it where nobody else reads it."
      : "  Without the key (the file seal-key in WOBBET_HOME, or WOBBET_SEAL_KEY) its secrets stay sealed: keep that, too.",
  )
}

async function restore(folder: string, options: Options & { replace?: boolean }): Promise<void> {
  const { readManifest, restoreBackup, keyMark } = await import("../store/backup.ts")
  const { forgottenFile, marksBy, readForgotten } = await import("../store/forgottenList.ts")
  const from = resolve(folder)
  const manifest = await told(async () => readManifest(from))
  const here = await keyHere()
  const key = here ?? manifest.key
  if (key === undefined || keyMark(key) !== manifest.keyMark)
    throw new CommandFault(
      here === undefined
        ? `The backup does not hold the key its secrets are sealed with (${manifest.keyMark}).`
        : `The secrets in the backup are sealed with another key (${manifest.keyMark}) than the one here (${keyMark(here)}).`,
      here !== undefined && manifest.holdsKey && process.env.WOBBET_SEAL_KEY === undefined
        ? `Restore into a new WOBBET_HOME, or move ${join(await home(), "seal-key")} away: the backup's own is taken then.`
        : "Set WOBBET_SEAL_KEY to that key.",
    )
  const forgotten = readForgotten(forgottenFile(await home()))
  const restored = await withDatabase(options.database, (url) =>
    told(() =>
      restoreBackup(
        from,
        { url, replace: options.replace === true, now: new Date(), forgotten, markOf: marksBy(key) },
        (says) => {
          if (!options.json) print(colors.dim(`  ${says} …`))
        },
      ),
    ),
  )
  if (here === undefined) await keepKey(key)
  if (asJson(options, restored)) return
  const { channels, replies, turns, forgotten: again } = restored
  print(
    `${colors.green("●")} Restored from the backup of ${manifest.madeAt} (Wobbet ${manifest.wobbet}).`,
    `  Sending is off on ${counted(channels.length, "channel")}: ${channels.join(", ") || "none"}.`,
    ...(again > 0
      ? [`  Forgotten again, since they asked for it after the backup: ${counted(again, "person", "people")}.`]
      : []),
    `  Parked, since it may have been done after the backup: ${counted(turns, "message")} to be answered, ${counted(replies, "reply", "replies")} to be sent.`,
    "  Next: start the service, look through wobbet parked list, then wobbet channel resume <key> for each channel.",
  )
}

async function told<T>(run: () => Promise<T>): Promise<T> {
  const { BackupTrouble } = await import("../store/backup.ts")
  const { ServerTrouble } = await import("../store/embedded.ts")
  try {
    return await run()
  } catch (error) {
    if (error instanceof BackupTrouble) throw new CommandFault(error.message, error.remedy)
    if (error instanceof ServerTrouble) throw new CommandFault(error.message)
    const { code, message } = error as { code?: string; message: string }
    if (code === "ECONNREFUSED" || code === "28P01" || code === "3D000" || code === "ENOTFOUND")
      throw new CommandFault(`The database cannot be reached: ${message}.`, "Is DATABASE_URL right, and the server up?")
    throw error
  }
}

/** The database of DATABASE_URL, or that of the embedded server, which is started for as long as it takes. */
async function withDatabase<T>(name: string, run: (url: string) => Promise<T>): Promise<T> {
  const given = process.env.DATABASE_URL
  if (given) return run(given)
  const { startEmbedded } = await import("../store/embedded.ts")
  const server: EmbeddedServer = await told(async () => startEmbedded(await home()))
  try {
    return await run(await server.database(name))
  } finally {
    await server.stop()
  }
}

async function home(): Promise<string> {
  const { homeFolder } = await import("../service/settings.ts")
  return homeFolder(process.env)
}

async function keyHere(): Promise<string | undefined> {
  if (process.env.WOBBET_SEAL_KEY) return process.env.WOBBET_SEAL_KEY.trim()
  const file = join(await home(), "seal-key")
  return existsSync(file) ? readFileSync(file, "utf8").trim() : undefined
}

async function keepKey(key: string): Promise<void> {
  const folder = await home()
  // As the service makes it: as root, the users of the database and of the handlers pass through it.
  mkdirSync(folder, { recursive: true, mode: process.getuid?.() === 0 ? 0o711 : 0o700 })
  writeFileSync(join(folder, "seal-key"), `${key}\n`, { mode: 0o600, flag: "wx" })
}

function progress(options: { json?: boolean }): (bytes: number) => void {
  if (options.json || !process.stderr.isTTY) return () => undefined
  return (bytes) => process.stderr.write(`\r  ${megabytes(bytes)} written …   \r`)
}

function megabytes(bytes: number): string {
  return bytes < 1e6 ? `${Math.ceil(bytes / 1000)} kB` : `${(bytes / 1e6).toFixed(1)} MB`
}
