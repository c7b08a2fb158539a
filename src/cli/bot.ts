import { resolve } from "node:path"
import type { Command } from "commander"
import { counted } from "../client/counted.ts"
import type { BotView } from "../client/types.ts"
import { builtFiles, sdkDeclaration } from "./built.ts"
import { CommandFault, connect } from "./context.ts"
import { asJson, colors, print, wrapped } from "./output.ts"

/** `wobbet bot check | explain`. */
export function botCommands(program: Command): void {
  const bot = program.command("bot").description("the bot folder: routes and handlers")

  bot
    .command("check")
    .description("check a bot folder, types and all; without one, the folder the service follows")
    .argument("[folder]")
    .option("--rewrite", "first change what is of an earlier form in bot.yaml")
    .option("--json", "for programs")
    .action(async (folder: string | undefined, options: { json?: boolean; rewrite?: boolean }) => {
      if (options.rewrite) await rewriteHere(folder, options)
      const checked = folder === undefined ? await connect().checkBot() : await checkHere(resolve(folder))
      if (checked.faults.length > 0) process.exitCode = 1
      if (asJson(options, checked)) return
      if (checked.faults.length === 0) {
        print(
          `${colors.green("●")} ${checked.bot} is valid: ${counted(checked.routes?.length ?? 0, "route")}, release ${checked.release}.`,
        )
        return
      }
      printFaults(checked)
    })

  bot
    .command("explain")
    .description("what would be decided about a text, and for each route why")
    .argument("<text>", "what a person says; /word for a command")
    .option("--channel <key>", "on this channel")
    .option("--choice <id>", "explain a press of this choice instead")
    .option("--state <json>", "with this state")
    .option("--place <kind>", "direct, group or broadcast", "direct")
    .option("--at <time>", "as if it were said at this time, such as 2026-11-27T18:30")
    .option("--json", "for programs")
    .action(
      async (
        text: string,
        options: { channel?: string; choice?: string; state?: string; place: string; at?: string; json?: boolean },
      ) => {
        const found = await connect().explain({
          text,
          place: options.place,
          ...(options.channel ? { channel: options.channel } : {}),
          ...(options.choice ? { choice: options.choice } : {}),
          ...(options.state ? { state: readState(options.state) } : {}),
          ...(options.at ? { at: options.at } : {}),
        })
        if (asJson(options, found)) return
        let decided = false
        for (const route of found.routes) {
          const sign = route.met ? (decided ? colors.yellow("●") : colors.green("●")) : colors.dim("○")
          const slots = route.slots ? ` ${JSON.stringify(route.slots)}` : ""
          const late = route.met && decided ? colors.yellow(" (an earlier route takes it)") : ""
          print(
            `${sign} ${route.route.padEnd(20)} ${route.met ? wrapped(route.why + slots, 23) : colors.dim(wrapped(route.why, 23))}${late}`,
          )
          decided ||= route.met
        }
        if (found.took === "route") print("", `→ route ${colors.bold(found.route ?? "")}, handler ${found.handler}`)
        else if (found.took === "unrouted")
          print(
            "",
            `→ ${colors.yellow("unrouted")}${found.handler ? `, handler ${found.handler}` : "; the bot has no handler for that"}`,
          )
        else print("", "→ passed over: nobody said it, and no route names its event")
      },
    )
}

/** Changes the file in place; comments and layout stay. */
async function rewriteHere(folder: string | undefined, options: { json?: boolean }): Promise<void> {
  if (folder === undefined)
    throw new CommandFault("--rewrite needs the folder.", "Run: wobbet bot check <folder> --rewrite")
  const { rewriteBotFile } = await import("../service/botCheck.ts")
  const lines = rewriteBotFile(resolve(folder))
  if (lines === undefined)
    throw new CommandFault(`There is no bot.yaml in ${resolve(folder)}.`, "Name a folder with a bot.yaml in it.")
  if (options.json) return
  if (lines.length === 0) print("Nothing in bot.yaml is of an earlier form.", "")
  else print(`Changed ${counted(lines.length, "line")} of bot.yaml:`, ...lines.map((line) => `  ${line}`), "")
}

/** In this process: no service is needed, and none is held up by it. */
async function checkHere(folder: string): Promise<BotView & { routes?: string[] }> {
  const { checkBotFolder } = await import("../service/botCheck.ts")
  return checkBotFolder(folder, { sdk: builtFiles.sdk, declaration: sdkDeclaration })
}

export function printFaults(bot: Pick<BotView, "faults">): void {
  for (const fault of bot.faults) {
    const where = [fault.file, fault.line, fault.column].filter((part) => part !== undefined).join(":")
    print(`${colors.red("✕")} ${colors.bold(where)}`, `  ${fault.says}.${fault.remedy ? `\n  ${fault.remedy}` : ""}`)
  }
}

function readState(json: string): object {
  try {
    return JSON.parse(json) as object
  } catch {
    throw new CommandFault(`The state ${json} is not JSON.`, `Write it as --state '{"topic":"lost"}'.`)
  }
}
