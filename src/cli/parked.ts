import type { Command } from "commander"
import { connect } from "./context.ts"
import { asJson, colors, inLine, print, printMore, table, when, whoOf, wideHelp } from "./output.ts"

/** `wobbet parked list | retry | edit | drop`. */
export function parkedCommands(program: Command): void {
  const parked = program.command("parked").description("what waits for a person's decision")

  parked
    .command("list")
    .description("the newest first, with the reason")
    .option("--all", "what was decided, too")
    .option("--channel <key>", "of one channel")
    .option("--limit <n>", "how many at most", "50")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(async (options: ListOptions) => {
      const found = await connect().parked({
        limit: options.limit,
        ...(options.cursor ? { cursor: options.cursor } : {}),
        ...(options.all ? { open: false } : {}),
        ...(options.channel ? { channel: options.channel } : {}),
      })
      if (asJson(options, found)) return
      table(
        [
          "since",
          { name: "what", spare: true },
          "cause",
          "who",
          "said",
          "reason",
          ...(options.all ? ["decision"] : []),
          { name: "parked", whole: true },
        ],
        found.items.map((item) => [
          when(item.since),
          item.what,
          colors.red(item.cause),
          inLine(whoOf(item), 16),
          inLine(item.text, 24),
          inLine(item.reason, 44),
          ...(options.all ? [item.decision ? colors.dim(`${item.decision} by ${item.decidedBy}`) : "open"] : []),
          colors.dim(item.id),
        ]),
        "Nothing is parked.",
      )
      printMore(found)
    })

  parked
    .command("retry")
    .description("put it back, at the end of its conversation's line")
    .argument("<id>")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean }) => {
      const done = await connect().retryParked(id)
      if (!asJson(options, done)) print(`${id} is back in its line, at the end.`)
    })

  parked
    .command("edit")
    .description("send other words instead")
    .argument("<id>")
    .requiredOption("--text <words>", "what to send, in light markup")
    .option("--json", "for programs")
    .action(async (id: string, options: { text: string; json?: boolean }) => {
      const done = await connect().editParked(id, options.text)
      if (!asJson(options, done)) print(`Sent instead: ${done.messages.join(", ")}.`)
    })

  parked
    .command("drop")
    .description("drop it: it is never answered or sent")
    .argument("<id>")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean }) => {
      const done = await connect().dropParked(id)
      if (!asJson(options, done)) print(`${id} is dropped. It stays on record.`)
    })
}

interface ListOptions {
  all?: boolean
  channel?: string
  limit: string
  cursor?: string
  json?: boolean
}
