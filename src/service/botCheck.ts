import { existsSync, readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { BotView } from "../client/types.ts"
import { rewriteBot } from "../core/routing/rewrite.ts"
import { readBotFolder } from "../engine/handlers/botFolder.ts"
import type { FolderSource } from "../engine/handlers/folderReader.ts"
import { typeFaults } from "../engine/handlers/typeCheck.ts"

/**
 * Reads a bot folder in this process, types and all, without a service that runs.
 *
 * @param from what the folder is read with
 * @param declaration what `import … from "wobbet"` stands for, as types
 */
export async function checkBotFolder(
  folder: string,
  { from, declaration }: { from: FolderSource; declaration: string },
): Promise<BotView & { routes?: string[] }> {
  const reading = await readBotFolder(folder, from)
  const types = await typeFaults(folder, reading.files, declaration)
  // What cannot be read at all is told once, by who reads it first.
  const known = "faults" in reading ? reading.faults : []
  const lines = new Set(known.map(({ file, line }) => `${file}:${line}`))
  const faults = [...known, ...types.filter(({ file, line }) => !lines.has(`${file}:${line}`))]
  if ("faults" in reading || faults.length > 0) return { folder, faults, notes: [] }
  const { bot, id, notes } = reading.ready
  return { folder, bot: bot.bot, release: id, routes: bot.routes.map((route) => route.name), faults, notes }
}

/**
 * Rewrites what is of an earlier form in a folder's `bot.yaml`. Gives the lines that changed, as they are now;
 * undefined where there is no such file.
 */
export function rewriteBotFile(folder: string): string[] | undefined {
  const file = join(folder, "bot.yaml")
  if (!existsSync(file)) return undefined
  const before = readFileSync(file, "utf8")
  const after = rewriteBot(before)
  if (after === undefined) return []
  writeFileSync(file, after)
  const lines = before.split("\n")
  return after.split("\n").flatMap((line, at) => (line === lines[at] ? [] : [line.trim()]))
}
