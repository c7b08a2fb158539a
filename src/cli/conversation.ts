import type { Command } from "commander"
import widthOf from "string-width"
import type { ConversationView, InterviewView } from "../client/types.ts"
import { tagsIn } from "./contact.ts"
import type { ListOptions } from "./people.ts"
import { listPeople } from "./people.ts"
import { CommandFault, connect } from "./context.ts"
import { changesOf } from "../client/changes.ts"
import { readState } from "./values.ts"
import { asJson, colors, inLine, print, printMore, rail, roomBeside, table, when, wideHelp, wrapped } from "./output.ts"

/** `wobbet conversation list | show | end | back | tag | take | give-back | state | reset`. */
export function conversationCommands(program: Command): void {
  const conversation = program.command("conversation").description("conversations, and what is remembered of them")

  conversation
    .command("list")
    .description("the one last spoken in first")
    .argument("[words]", "part of a title, or an id")
    .option("--channel <key>", "of one channel")
    .option("--waiting", "those in which a person answers, the one handed over first first")
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
        ...(options.waiting ? { waiting: true } : {}),
      })
      if (asJson(options, found)) return
      if (options.waiting) return printWaiting(found.items)
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
          inLine(
            `${item.lastDirection === "out" ? "← " : ""}${item.forgottenAt ? "(forgotten)" : (item.lastText ?? "")}`,
            40,
          ),
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
        colors.dim(
          `${shown.id}, answered by ${shown.answeredBy === "bot" ? "the bot" : "a person"}${shown.tags.length > 0 ? `, tags ${shown.tags.join(", ")}` : ""}`,
        ),
        "",
      )
      for (const item of items) {
        const side = item.direction === "in" ? "received" : "sent    "
        print(
          `${colors.dim(when(item.receivedAt))}  ${item.direction === "in" ? colors.bold(side) : side}  ${rail(item.stops ?? [])}  ${item.body.simulated ? colors.dim("simulated: ") : ""}${inLine(item.text || `(${item.event})`, roomBeside(widthOf(when(item.receivedAt)) + 27, 90))}`,
        )
      }
      print("", `state ${JSON.stringify(shown.state)}`)
      shown.interviews.forEach(printInterview)
    })

  for (const [what, says] of [
    ["end", "end a running interview, without a word"],
    ["back", "step a running interview back to the question before"],
  ] as const)
    conversation
      .command(what)
      .description(says)
      .argument("<id>", "the conversation's id, or the provider's")
      .option("--interview <id>", "which, where several run")
      .option("--json", "for programs")
      .action(async (id: string, options: { interview?: string; json?: boolean }) => {
        const client = connect()
        const shown = await client.conversation(id)
        const running = shown.interviews.filter(({ stands }) => stands !== "ended")
        const [only] = options.interview ? [options.interview] : running.map((one) => one.id)
        if (only === undefined)
          throw new CommandFault(`No interview runs in ${id}.`, `See what there was: wobbet conversation show ${id}`)
        if (!options.interview && running.length > 1)
          throw new CommandFault(
            `Several interviews run in ${id}.`,
            `Name one with --interview: ${running.map((one) => one.id).join(", ")}`,
          )
        const done = await client.decideInterview(shown.id, only, what)
        if (asJson(options, { interview: only, ...done })) return
        print(
          `${what === "end" ? "The interview is being ended." : "The interview is being stepped back."} What came of it: wobbet message show ${done.message}`,
        )
      })

  conversation
    .command("tag")
    .description("tag a place, for a bot's conditions: place: { is: staff }")
    .argument("<id>", "its id, or the provider's")
    .argument("[tags...]", "tags to add")
    .option("--remove <tags>", "tags to take away, with commas between them")
    .option("--json", "for programs")
    .action(async (id: string, tags: string[], options: { remove?: string; json?: boolean }) => {
      const marked = await connect().markConversation(id, { addTags: tags, removeTags: tagsIn(options.remove) })
      if (asJson(options, marked)) return
      const name = marked.title ?? marked.address
      print(marked.tags.length > 0 ? `${name} has the tags ${marked.tags.join(", ")}.` : `${name} has no tags.`)
    })

  conversation
    .command("take")
    .description("answer in it by hand; the bot is silent meanwhile, and nobody else can take it")
    .argument("<id>", "its id, or the provider's")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean }) => {
      const client = connect()
      const taken = await client.takeConversation((await client.conversation(id)).id)
      if (asJson(options, taken)) return
      print(
        `${taken.title ?? taken.address} is yours: the bot is silent there.`,
        colors.dim(`Give it back with: wobbet conversation give-back ${taken.id}`),
      )
    })

  conversation
    .command("give-back")
    .description("let the bot answer in it again")
    .argument("<id>", "its id, or the provider's")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean }) => {
      const given = await connect().setAnsweredBy(id, "bot")
      if (!asJson(options, given)) print(`The bot answers ${given.title ?? given.address} again.`)
    })

  conversation
    .command("state")
    .description("show its state, or give it another")
    .argument("<id>", "its id, or the provider's")
    .option("--set <json>", "the whole new state; refused where it changes meanwhile")
    .option("--json", "for programs")
    .action(async (id: string, options: { set?: string; json?: boolean }) => {
      const client = connect()
      const shown = await client.conversation(id)
      if (options.set === undefined) {
        if (!asJson(options, { state: shown.state })) print(JSON.stringify(shown.state, null, 2))
        return
      }
      const { state } = await client.changeState(shown.id, readState(options.set, "--set"), shown.stateTag)
      if (asJson(options, { state })) return
      const changes = changesOf(shown.state, state)
      if (changes.length === 0) print("It had that state already.")
      const words = (value: unknown) => (value === undefined ? "nothing" : inLine(JSON.stringify(value), 80))
      for (const { field, was, is } of changes) print(`${inLine(field, 60)}: ${words(was)} → ${words(is)}`)
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

/** Where an interview stands: its question, what was answered, and until when it waits. */
function printInterview(interview: InterviewView): void {
  const { id, handler, name, stands, waits, until, answers, ended, why } = interview
  const state =
    stands === "ended"
      ? (ended ?? "ended")
      : stands === "asks"
        ? "asks"
        : stands === "waits"
          ? "waits for"
          : "set aside"
  const what = waits && (stands === "waits" ? ` ${inLine(waits, 80)}` : ` “${inLine(waits, 80)}”`)
  const limit = until ? `, until ${when(until)}` : ""
  print(
    "",
    `interview ${colors.bold(handler)}${name ? ` with ${inLine(name, 40)}` : ""}: ${state}${what ?? ""}${limit}  ${colors.dim(id)}`,
  )
  for (const { question, value } of answers)
    print(
      `  ${inLine(question, 70)} ${colors.bold(inLine(typeof value === "string" ? value : JSON.stringify(value), 80))}`,
    )
  if (why) print(`  ${inLine(why, 200)}`)
}

/** Conversations in which a person answers: since when, and who has taken them. */
function printWaiting(items: ConversationView[]): void {
  table(
    ["since", "who", "taken by", "said last", { name: "conversation", spare: true }],
    items.map((item) => [
      item.handedAt ? when(item.handedAt) : "",
      inLine(item.title ?? item.address, 24),
      item.takenBy ? inLine(item.takenBy, 24) : colors.yellow("nobody yet"),
      inLine(`${item.lastDirection === "out" ? "← " : ""}${item.lastText ?? ""}`, 60),
      colors.dim(item.id),
    ]),
    "Nobody waits for a person.",
  )
}
