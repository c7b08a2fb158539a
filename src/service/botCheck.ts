import type { BotView } from "../client/types.ts"
import { readBotFolder } from "../engine/handlers/botFolder.ts"
import { typeFaults } from "../engine/handlers/typeCheck.ts"

/**
 * Reads a bot folder in this process, types and all, without a service that runs.
 *
 * @param sdk what `import … from "wobbet"` stands for, as code
 * @param declaration the same, as types
 */
export async function checkBotFolder(
  folder: string,
  { sdk, declaration }: { sdk: string; declaration: string },
): Promise<BotView & { routes?: string[] }> {
  const reading = await readBotFolder(folder, sdk)
  const types = await typeFaults(folder, reading.files, declaration)
  // What cannot be read at all is told once, by who reads it first.
  const known = "faults" in reading ? reading.faults : []
  const lines = new Set(known.map(({ file, line }) => `${file}:${line}`))
  const faults = [...known, ...types.filter(({ file, line }) => !lines.has(`${file}:${line}`))]
  if ("faults" in reading || faults.length > 0) return { folder, faults }
  const { bot, id } = reading.ready
  return { folder, bot: bot.bot, release: id, routes: bot.routes.map((route) => route.name), faults }
}
