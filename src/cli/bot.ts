import { resolve } from "node:path"
import type { Command } from "commander"
import { counted } from "../client/counted.ts"
import widthOf from "string-width"
import type { BotView, Explanation } from "../client/types.ts"
import { beginBot } from "./beginBot.ts"
import { builtFiles, sdkDeclaration } from "./built.ts"
import { CommandFault, connect } from "./context.ts"
import { starters } from "./starters.ts"
import { readState } from "./values.ts"
import { asJson, colors, filled, inLine, print, roomBeside, wrapped } from "./output.ts"

/** `wobbet bot new | check | explain`. */
export function botCommands(program: Command): void {
  const bot = program.command("bot").description("the bot folder: routes and handlers")

  bot
    .command("new")
    .description(`begin a bot in a new folder: ${Object.keys(starters).join(", ")}`)
    .argument("<folder>", "where; it must not hold anything yet")
    .option("--starter <name>", "what to begin with", "echo")
    .option("--name <name>", "the bot's name; the folder's where it is left out")
    .option("--json", "for programs")
    .action((folder: string, options: { starter: string; name?: string; json?: boolean }) => {
      const files = beginBot(folder, options)
      if (asJson(options, { folder, files })) return
      const says = starters[options.starter]!.says
      print(
        `${folder} holds a bot that ${says}:`,
        ...files.map((file) => `  ${file}`),
        "  types/          what an editor and tsc know of the SDK",
        "",
        `Try it:  wobbet bot check ${folder}`,
        `         wobbet serve --bot ${folder}`,
      )
    })

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
        printNotes(checked)
        return
      }
      printFaults(checked)
    })

  bot
    .command("explain")
    .description("what would be decided about a text, and for each route why")
    .argument("[text]", "what a person says; /word for a command")
    .option("--message <id>", "a message on record instead, with its place, person and state")
    .option("--channel <key>", "on this channel; what depends on it is left open without one")
    .option("--choice <id>", "explain a press of this choice instead")
    .option("--state <json>", "with this state")
    .option("--place <place>", "direct, group or broadcast; or a conversation, or a place's id at its provider")
    .option("--person <id>", "said by this person: the contact's id, or the provider's")
    .option("--at <time>", "as if it were said at this time, such as 2026-11-27T18:30")
    .option("--all", "for every route why it was not met")
    .option("--json", "for programs")
    .action(async (text: string | undefined, { json, all, state, ...options }: ExplainOptions) => {
      if (text === undefined && options.message === undefined && options.choice === undefined)
        throw new CommandFault("There is nothing to explain.", "Give a text, or --message or --choice.")
      const found = await connect().explain({
        ...(text === undefined ? {} : { text }),
        ...options,
        ...(state ? { state: readState(state) } : {}),
      })
      if (asJson({ ...(json ? { json } : {}) }, found)) return
      printAnswer(found)
      printRoutes(found, all === true)
    })
}

interface ExplainOptions {
  message?: string
  channel?: string
  choice?: string
  state?: string
  place?: string
  person?: string
  at?: string
  all?: boolean
  json?: boolean
}

function printAnswer(found: Explanation): void {
  const handler = found.handler ? `handler ${found.handler}` : "the bot has no handler for that"
  if (found.took === "route") print(`→ route ${colors.bold(found.route ?? "")}, ${handler}`)
  else if (found.took === "unrouted") print(`→ ${colors.yellow("unrouted")}, ${handler}`)
  else print(`→ ${colors.yellow("passed over")}: ${found.why ?? ""}`)
  const taker = found.routes.find(({ met }) => met)
  if (found.took === "route" && taker) print(`  ${wrapped(taker.why, 2)}`)
  for (const [slot, value] of Object.entries(found.slots ?? {})) print(`  ${colors.dim(slot)} ${value}`)
  if (found.says !== undefined) print(`  ${colors.dim("says")} ${wrapped(found.says, 7)}`)
  for (const { route, why } of found.unless) print(`  ${colors.yellow("unless")} ${route} takes it: ${wrapped(why, 9)}`)
}

/** Every route on a line, cut where the terminal ends; with `all`, whole. */
function printRoutes({ routes, took }: Explanation, all: boolean): void {
  if (routes.length === 0) return
  print("")
  const width = Math.min(24, Math.max(...routes.map(({ route }) => widthOf(route))))
  let decided = took !== "route"
  for (const { route, met, depends, why } of routes) {
    const sign = met
      ? decided
        ? colors.yellow("●")
        : colors.green("●")
      : depends
        ? colors.yellow("◐")
        : colors.dim("○")
    const late = met && decided ? "an earlier route takes it: " : ""
    const words = all ? wrapped(late + why, width + 4) : inLine(late + why, roomBeside(width + 5, 90))
    print(`${sign} ${filled(route, width)}  ${met || depends ? words : colors.dim(words)}`)
    decided ||= met
  }
  if (!all) print("", colors.dim("With --all: each line whole."))
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
  const { botRoots, homeFolder } = await import("../service/settings.ts")
  const from = { sdk: builtFiles.sdk, home: homeFolder(process.env), roots: botRoots(process.env) }
  return checkBotFolder(folder, { from, declaration: sdkDeclaration })
}

/** What is odd and no fault. */
export function printNotes({ notes }: Pick<BotView, "notes">): void {
  for (const { file, line, says, remedy } of notes)
    print(`${colors.yellow("!")} ${colors.bold(`${file}:${line}`)}`, `  ${says}.`, ...(remedy ? [`  ${remedy}`] : []))
}

export function printFaults(bot: Pick<BotView, "faults">): void {
  for (const fault of bot.faults) {
    const where = [fault.file, fault.line, fault.column].filter((part) => part !== undefined).join(":")
    print(`${colors.red("✕")} ${colors.bold(where)}`, `  ${fault.says}.${fault.remedy ? `\n  ${fault.remedy}` : ""}`)
  }
}
