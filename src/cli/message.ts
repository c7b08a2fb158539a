import type { Command } from "commander"
import type { MessageView } from "../client/types.ts"
import { connect } from "./context.ts"
import {
  asJson,
  because,
  colors,
  inLine,
  messageWord,
  print,
  printMore,
  rail,
  table,
  when,
  whoOf,
  wideHelp,
} from "./output.ts"

/** `wobbet message find | show`. */
export function messageCommands(program: Command): void {
  const message = program.command("message").description("messages, in and out")

  message
    .command("find")
    .description("look for messages by their words, the newest first")
    .argument("[words...]", "words that must all be there; the last may be unfinished")
    .option("--channel <key>", "of one channel")
    .option("--conversation <id>", "of one conversation")
    .option("--direction <in|out>", "in or out")
    .option("--event <event>", "text, media, command, choice, …")
    .option("--status <status>", "handled, unrouted, parked, sent, …")
    .option("--doubtful", "only where it was open whether the provider took it")
    .option("--from <time>", "at this time or later (ISO 8601)")
    .option("--to <time>", "before this time (ISO 8601)")
    .option("--limit <n>", "how many at most", "20")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(async (words: string[], options: { [name: string]: string | boolean | undefined; json?: boolean }) => {
      const { json: _json, wide: _wide, ...filter } = options
      const text = words.join(" ")
      const found = await connect().messages({
        ...(filter as { [name: string]: string }),
        ...(text ? { text } : {}),
      })
      if (asJson(options, found)) return
      if (options.doubtful) printDoubts(found.items)
      else printMessages(found.items)
      printMore(found)
    })

  message
    .command("show")
    .description("one message, how far it got and why")
    .argument("<id>")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean }) => {
      const shown = await connect().message(id)
      if (asJson(options, shown)) return
      const line = (name: string, value: string | null | undefined) =>
        value && print(`${colors.dim(name.padEnd(13))}${value.replaceAll("\n", `\n${" ".repeat(13)}`)}`)
      line("message", `${colors.bold(shown.id)} ${shown.direction === "in" ? "from" : "to"} ${whoOf(shown)}`)
      line("rail", `${rail(shown.stops ?? [])}  ${messageWord(shown)}`)
      line("because", because(shown))
      line("doubt", shown.doubt && `${shown.doubt.known}; ${shown.doubt.decided}`)
      line("event", shown.event)
      line("said", shown.text || `(${shown.event})`)
      line("channel", `${shown.channel}, conversation ${shown.conversation}, position ${shown.position}`)
      line("provider id", shown.providerId)
      line("by", shown.author ?? (shown.direction === "out" ? shown.origin : undefined))
      line("received", when(shown.receivedAt))
      line("route", shown.route)
      print(colors.dim(`Its whole passage: wobbet passage ${shown.id}`))
    })
}

export function printMessages(items: MessageView[]): void {
  table(
    ["time", "", { name: "rail", spare: true }, "", "who", "said", { name: "message", whole: true }],
    items.map((item) => [
      when(item.receivedAt),
      item.direction === "in" ? "→" : colors.dim("←"),
      rail(item.stops ?? []),
      messageWord(item),
      inLine(whoOf(item), 18),
      inLine(item.text || `(${item.event})`, 44),
      colors.dim(item.id),
    ]),
    "No message fits.",
  )
}

function printDoubts(items: MessageView[]): void {
  table(
    ["begun", "who", "said", "known", "decided", { name: "message", whole: true }],
    items.map((item) => [
      when(item.doubt?.at ?? item.receivedAt),
      inLine(whoOf(item), 14),
      inLine(item.text || `(${item.event})`, 20),
      item.doubt?.known ?? "",
      item.doubt?.open ? colors.red(item.doubt.decided) : (item.doubt?.decided ?? ""),
      colors.dim(item.id),
    ]),
    "Nothing was ever in doubt.",
  )
}
