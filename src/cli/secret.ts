import { readFileSync } from "node:fs"
import { text } from "node:stream/consumers"
import type { Command } from "commander"
import { connect, CommandFault } from "./context.ts"
import { asJson, colors, inLine, print, table, when } from "./output.ts"

interface Of {
  bot?: string
  lane?: string
  json?: boolean
}

/** `wobbet secret set | list | drop`. */
export function secretCommands(program: Command): void {
  const secret = program.command("secret").description("secrets that a bot's handlers get by name")
  const ofBot = (command: Command) =>
    command
      .option("--bot <bot>", "whose it is; may be left out where there is one bot")
      .option("--lane <lane>", "only for this lane, in the place of the one for all")
      .option("--json", "for programs")

  ofBot(
    secret
      .command("set")
      .description("set a secret, or replace it; the value comes from standard input")
      .argument("<name>", "such as FARES_KEY")
      .option("--file <file>", "read the value from a file")
      .option("--env <variable>", "take it from the environment")
      .addHelpText(
        "after",
        `
The value is never an argument: those stand in the shell's history and in lists of processes.
  printf %s "$KEY" | wobbet secret set FARES_KEY
A line end at its end does not belong to it.`,
      ),
  ).action(set)

  secret
    .command("list")
    .description("all secrets, without their values, and which routes list them")
    .option("--bot <bot>", "of one bot")
    .option("--json", "for programs")
    .action(async (options: Of) => {
      const found = await connect().secrets(options.bot ? { bot: options.bot } : {})
      if (asJson(options, found)) return
      table(
        ["name", "bot", "lane", "set", "by", "used by"],
        found.items.map(({ name, bot, lane, setAt, setBy, usedBy }) => [
          name,
          bot,
          lane ?? colors.dim("all"),
          when(setAt),
          inLine(setBy, 20),
          usedBy.length > 0 ? inLine(usedBy.join(", "), 60) : colors.dim("no route"),
        ]),
        "No secret is set.",
      )
    })

  ofBot(
    secret
      .command("drop")
      .description("drop a secret; routes that list it fail until it is set again")
      .argument("<name>", "its name"),
  ).action(async (name: string, { bot, lane, json }: Of) => {
    await connect().dropSecret(name, { ...(bot ? { bot } : {}), ...(lane ? { lane } : {}) })
    if (!asJson({ ...(json ? { json } : {}) }, { name, dropped: true })) print(`The secret ${name} is dropped.`)
  })
}

async function set(name: string, options: Of & { file?: string; env?: string }): Promise<void> {
  const value = (await valueFrom(name, options)).replace(/\r?\n$/, "")
  if (value === "") throw new CommandFault(`The value for ${name} is empty.`, "Nothing was changed.")
  const { bot, lane } = options
  const kept = await connect().setSecret(name, { value, ...(bot ? { bot } : {}), ...(lane ? { lane } : {}) })
  if (asJson(options, kept)) return
  const where = kept.lane === null ? `of ${kept.bot}` : `of ${kept.bot} for the lane ${kept.lane}`
  print(
    `${colors.green("●")} The secret ${name} ${where} is ${kept.replaced ? "replaced" : "set"}.`,
    kept.usedBy.length > 0
      ? `  Used by ${inLine(kept.usedBy.join(", "), 120)}, from the next turn on.`
      : `  No route lists it yet: write secrets: [${name}] beside a route's handler.`,
  )
}

async function valueFrom(name: string, { file, env }: { file?: string; env?: string }): Promise<string> {
  if (file !== undefined && env !== undefined)
    throw new CommandFault("A value has one source: --file or --env.", "Leave one of them out.")
  if (env !== undefined) {
    const found = process.env[env]
    if (found === undefined) throw new CommandFault(`The environment has no ${env}.`, "Set it, or name another.")
    return found
  }
  if (file !== undefined) {
    try {
      return readFileSync(file, "utf8")
    } catch (error) {
      throw new CommandFault(`The file ${file} cannot be read: ${(error as Error).message}.`, "Is the path right?")
    }
  }
  if (process.stdin.isTTY) process.stderr.write(`The value of ${name}, then Ctrl-D on a line of its own:\n`)
  return text(process.stdin)
}
