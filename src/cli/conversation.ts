import type { Command } from "commander"
import widthOf from "string-width"
import { connect } from "./context.ts"
import { asJson, colors, inLine, print, printMore, rail, roomBeside, table, when, wideHelp, wrapped } from "./output.ts"

/** `wobbet conversation list | show | reset`. */
export function conversationCommands(program: Command): void {
  const conversation = program.command("conversation").description("conversations, and what is remembered of them")

  conversation
    .command("list")
    .description("the one last spoken in first")
    .argument("[words]", "part of a title, or an id")
    .option("--channel <key>", "of one channel")
    .option("--people", "everybody who ever spoke instead, in groups too")
    .option("--limit <n>", "how many at most", "30")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(async (text: string | undefined, options: ListOptions) => {
      if (options.people) return listPeople(text, options)
      const found = await connect().conversations({
        limit: options.limit,
        ...(options.cursor ? { cursor: options.cursor } : {}),
        ...(text ? { text } : {}),
        ...(options.channel ? { channel: options.channel } : {}),
      })
      if (asJson(options, found)) return
      table(
        [
          "last",
          "who",
          { name: "kind", spare: true },
          { name: "provider's id", whole: true },
          "said last",
          "needs you",
          { name: "conversation", spare: true },
        ],
        found.items.map((item) => [
          when(item.lastAt),
          inLine([item.title ?? item.address, item.topic && `› ${item.topic}`].filter(Boolean).join(" "), 24),
          item.kind,
          item.address,
          inLine(`${item.lastDirection === "out" ? "← " : ""}${item.lastText ?? ""}`, 40),
          item.parked ? colors.red(`${item.parked} parked`) : item.unsent ? colors.yellow(`${item.unsent} unsent`) : "",
          colors.dim(item.id),
        ]),
        text ? "No conversation fits." : "Nobody has spoken yet.",
      )
      printMore(found)
      print(
        colors.dim(
          wrapped(
            "send and show take the provider's id as well as the conversation's. With --people: everybody, in groups too.",
            0,
          ),
        ),
      )
    })

  conversation
    .command("show")
    .description("what was said, and the state")
    .argument("<id>", "its id, or the provider's id of the person, group or broadcast channel")
    .option("--limit <n>", "how many messages", "30")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(async (id: string, options: { limit: string; json?: boolean }) => {
      const client = connect()
      const shown = await client.conversation(id)
      const { items } = await client.conversationMessages(shown.id, { limit: options.limit })
      if (asJson(options, { ...shown, messages: items })) return
      print(
        `${colors.bold(shown.title ?? shown.address)} on ${shown.channel}, ${shown.kind}, provider's id ${shown.address}`,
        colors.dim(`${shown.id}, answered by ${shown.answeredBy === "bot" ? "the bot" : "a person"}`),
        "",
      )
      for (const item of items) {
        const side = item.direction === "in" ? "received" : "sent    "
        print(
          `${colors.dim(when(item.receivedAt))}  ${item.direction === "in" ? colors.bold(side) : side}  ${rail(item.stops ?? [])}  ${item.body.simulated ? colors.dim("simulated: ") : ""}${inLine(item.text, roomBeside(widthOf(when(item.receivedAt)) + 27, 90))}`,
        )
      }
      print("", `state ${JSON.stringify(shown.state)}`)
    })

  conversation
    .command("reset")
    .description("forget the state; what was said stays")
    .argument("<id>")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean }) => {
      await connect().resetConversation(id)
      if (!asJson(options, { reset: id })) print(`The state of ${id} is forgotten. What was said stays.`)
    })
}

interface ListOptions {
  channel?: string
  people?: boolean
  limit: string
  cursor?: string
  json?: boolean
}

async function listPeople(text: string | undefined, options: ListOptions): Promise<void> {
  const found = await connect().people({
    limit: options.limit,
    ...(options.cursor ? { cursor: options.cursor } : {}),
    ...(text ? { text } : {}),
    ...(options.channel ? { channel: options.channel } : {}),
  })
  if (asJson(options, found)) return
  table(
    ["who", "handle", "channel", { name: "provider's id", whole: true }, "conversation"],
    found.items.map((item) => [
      inLine(item.name ?? item.address, 30),
      item.handle ? `@${item.handle}` : "",
      item.channel,
      item.address,
      item.conversation ? colors.dim(item.conversation) : colors.dim("in groups only"),
    ]),
    text ? "Nobody fits." : "Nobody has spoken yet.",
  )
  printMore(found)
}
