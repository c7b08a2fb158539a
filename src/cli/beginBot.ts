import { cpSync, existsSync, mkdirSync, readdirSync, writeFileSync } from "node:fs"
import { basename, dirname, join, resolve } from "node:path"
import { sdkDeclaration } from "./built.ts"
import { starters, typeSettings } from "./starters.ts"
import { CommandFault } from "./context.ts"

/**
 * Writes a bot to begin with into a new folder, with the SDK's types beside it.
 *
 * @returns the files that are the author's, by their paths in the folder
 */
export function beginBot(folder: string, { starter, name }: { starter: string; name?: string }): string[] {
  const chosen = Object.hasOwn(starters, starter) ? starters[starter] : undefined
  if (!chosen)
    throw new CommandFault(`There is no starter "${starter}".`, `There are: ${Object.keys(starters).join(", ")}.`)
  const there = existsSync(folder) ? readdirSync(folder) : []
  if (there.length > 0)
    throw new CommandFault(`${folder} holds something already: ${there.slice(0, 3).join(", ")}.`, "Name a new folder.")
  const bot = name ?? named(basename(resolve(folder)))
  if (!/^[a-z0-9][a-z0-9-]*$/.test(bot))
    throw new CommandFault(
      `"${bot}" is not a name for a bot.`,
      "Use small letters, digits and hyphens, such as tern-point-ferry.",
    )
  const files = { ...chosen.files(bot), "tsconfig.json": typeSettings }
  for (const [path, text] of Object.entries(files)) {
    mkdirSync(dirname(join(folder, path)), { recursive: true })
    writeFileSync(join(folder, path), text)
  }
  cpSync(join(dirname(sdkDeclaration), ".."), join(folder, "types"), { recursive: true })
  return Object.keys(files)
}

/** A folder's name as a bot's. */
function named(folder: string): string {
  const name = folder
    .normalize("NFKD")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "")
  return name === "" ? "my-bot" : name
}
