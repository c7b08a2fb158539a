import { readFileSync } from "node:fs"
import type { Command } from "commander"
import { CommandFault, connect } from "./context.ts"
import { printFaults } from "./profileFaults.ts"
import { testCommand } from "./profileTest.ts"
import { fromOpenApiCommand, fromRequestCommand } from "./profileFrom.ts"
import { asJson, colors, print, table, wideHelp } from "./output.ts"

const origins = { ships: "ships with Wobbet", folder: "the bot folder's", learned: "learned", set: "set by hand" }

/** `wobbet profile list | show | check | set | test | from-request`. */
export function profileCommands(program: Command): void {
  const profile = program.command("profile").description("gateway profiles: how gateways speak, as data")

  profile
    .command("list")
    .description("all profiles")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(async (options: { json?: boolean }) => {
      const { items } = await connect().profiles()
      if (asJson(options, items)) return
      table(
        [{ name: "profile", whole: true }, "what it is", "from", "secrets"],
        items.map((item) => [item.name, item.title, origins[item.origin], item.secrets.join(", ")]),
        "There are none.",
      )
    })

  profile
    .command("show")
    .description("a profile as it is written")
    .argument("<name>")
    .option("--json", "for programs")
    .action(async (name: string, options: { json?: boolean }) => {
      const found = (await connect().profiles()).items.find((item) => item.name === name)
      if (!found)
        throw new CommandFault(`There is no gateway profile "${name}".`, '"wobbet profile list" shows those there are.')
      if (!asJson(options, found)) print(found.source.trimEnd())
    })

  fromRequestCommand(profile)
  fromOpenApiCommand(profile)
  testCommand(profile)

  for (const [command, text, keep] of [
    ["check", "say what is wrong in a profile, and what would be right", false],
    ["set", "keep a profile, so that channels can use it", true],
  ] as const) {
    profile
      .command(command)
      .description(text)
      .argument("<file>", "a YAML file")
      .option("--json", "for programs")
      .action(async (file: string, options: { json?: boolean }) => {
        const answer = await connect().setProfile(read(file), keep)
        if (answer.faults.length > 0) process.exitCode = 1
        if (asJson(options, answer)) return
        if (answer.faults.length > 0) return printFaults(file, answer.faults)
        print(`${colors.green("●")} ${answer.name} ${keep ? "is saved" : "is valid"}.`)
      })
  }
}

function read(file: string): string {
  try {
    return readFileSync(file, "utf8")
  } catch {
    throw new CommandFault(`The file ${file} cannot be read.`, "Is the path right?")
  }
}
