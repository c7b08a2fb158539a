import { readFileSync } from "node:fs"
import { text } from "node:stream/consumers"
import type { Command } from "commander"
import type { NoticeGiven, NoticeTried, NoticeView, RecipientView } from "../client/types.ts"
import { connect, CommandFault } from "./context.ts"
import { asJson, colors, inLine, print, printMore, table, when, wideHelp } from "./output.ts"

interface SendOptions {
  set: string[]
  data?: string
  key?: string
  bot?: string
  lane?: string
  try?: boolean
  json?: boolean
}

/** `wobbet notice send | list | show`. */
export function noticeCommands(program: Command): void {
  const notice = program.command("notice").description("what happens in applications, and whom it is told")

  notice
    .command("send")
    .description("tell what happened, by the notices of the bot")
    .argument("<type>", "the event's type, such as claim.reassigned")
    .option("--set <field=value>", "a field of the event; may be given several times", several, [])
    .option("--data <file>", "the event's data as JSON, or a whole CloudEvent, from a file or from standard input (-)")
    .option("--key <key>", "the same key tells once")
    .option("--bot <bot>", "of this bot alone")
    .option("--lane <lane>", "of this lane, where that is not live")
    .option("--try", "show what would be said, to whom; nothing is said")
    .option("--json", "for programs")
    .action(send)

  notice
    .command("list")
    .description("what applications have told, the newest first")
    .option("--type <type>", "events of this type alone")
    .option("--limit <n>", "how many at most", "20")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(list)

  notice
    .command("show")
    .description("one notice: what happened, and whom it was told")
    .argument("<id>")
    .option("--state <state>", "only those who are waiting, said, refused, failed or unmatched")
    .option("--limit <n>", "how many at most", "50")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(show)
}

const several = (one: string, before: string[]) => [...before, one]

async function send(type: string, options: SendOptions): Promise<void> {
  const given = await eventFrom(type, options)
  const client = connect()
  if (options.try) {
    const tried = await client.tryNotice(given)
    if (!asJson(options, tried)) printTried(tried)
    return
  }
  const kept = await client.sendNotice(given, options.key)
  if (asJson(options, kept)) return
  for (const { id, bot, known } of kept.items)
    print(
      known
        ? `This was told before, with the same key: ${id} (${bot}).`
        : `Taken: ${id} (${bot}). "wobbet notice show ${id}" says whom it is told.`,
    )
}

async function eventFrom(type: string, { set, data, bot, lane }: SendOptions): Promise<NoticeGiven> {
  const read = data === undefined ? {} : await jsonFrom(data)
  if ("specversion" in read) return { ...read, type } as NoticeGiven
  const fields = Object.fromEntries(
    set.map((one) => {
      const at = one.indexOf("=")
      if (at < 1)
        throw new CommandFault(`--set is "${one}"; it takes a field and its value.`, "Write it as --set claim=L-310.")
      return [one.slice(0, at), one.slice(at + 1)]
    }),
  )
  return { type, data: { ...read, ...fields }, ...(bot ? { bot } : {}), ...(lane ? { lane } : {}) }
}

async function jsonFrom(file: string): Promise<{ [field: string]: unknown }> {
  try {
    const source = file === "-" ? await text(process.stdin) : readFileSync(file, "utf8")
    const read = JSON.parse(source) as unknown
    if (typeof read === "object" && read !== null && !Array.isArray(read)) return read as { [field: string]: unknown }
  } catch (error) {
    throw new CommandFault(`--data cannot be read: ${(error as Error).message}.`, "Name a file with a JSON object.")
  }
  throw new CommandFault("--data holds no JSON object.", 'Write the event\'s fields, such as {"claim": "L-310"}.')
}

function printTried({ told, not, count }: NoticeTried): void {
  print(count === 0 ? "Nobody would be told." : `${count} would be told:`)
  for (const { name, channel, part, until } of told) {
    const { text: words = "", choices = [] } = part as { text?: string; choices?: { label: string }[] }
    print(
      `  ${colors.bold(inLine(name ?? "somebody", 30))} on ${inLine(channel, 30)}${until ? colors.yellow(`, after the quiet hours at ${when(until)}`) : ""}`,
      `    ${inLine(words, 300)}`,
      ...(choices.length > 0 ? [`    ${choices.map(({ label }) => `[${inLine(label, 30)}]`).join(" ")}`] : []),
    )
  }
  if (told.length < count) print(colors.dim(`  and ${count - told.length} more`))
  for (const { named, why } of not) print(colors.yellow(`  not told: ${inLine(named, 60)}: ${inLine(why, 200)}`))
}

async function list(options: { type?: string; limit: string; cursor?: string; json?: boolean }): Promise<void> {
  const { type, limit, cursor } = options
  const found = await connect().notices({ limit, ...(type ? { type } : {}), ...(cursor ? { cursor } : {}) })
  if (asJson(options, found)) return
  table(
    ["at", "type", "told", "waiting", "not told", { name: "by", spare: true }, { name: "notice", whole: true }],
    found.items.map((one) => [
      when(one.at),
      inLine(one.type, 30),
      String(one.said),
      one.waiting > 0 || !one.known ? colors.yellow(one.known ? String(one.waiting) : "…") : "0",
      notTold(one),
      inLine(one.by, 20),
      colors.dim(one.id),
    ]),
    "No application has told anything yet.",
  )
  printMore(found)
}

function notTold({ refused, failed, unmatched }: NoticeView): string {
  const parts = [refused && `${refused} refused`, failed && `${failed} failed`, unmatched && `${unmatched} unmatched`]
  const words = parts.filter(Boolean).join(", ")
  return words === "" ? "0" : colors.yellow(words)
}

async function show(
  id: string,
  options: { state?: string; limit: string; cursor?: string; json?: boolean },
): Promise<void> {
  const { state, limit, cursor } = options
  const client = connect()
  const notice = await client.notice(id)
  const found = await client.recipients(id, {
    limit,
    ...(state ? { state } : {}),
    ...(cursor ? { cursor } : {}),
  })
  if (asJson(options, { ...notice, recipients: found })) return
  print(
    `${colors.bold(inLine(notice.type, 80))} at ${when(notice.at)}, told by ${inLine(notice.by, 40)} (${notice.bot})`,
    `  ${inLine(JSON.stringify(notice.data), 400)}`,
    `  ${notice.said} told, ${notice.waiting} waiting, ${notice.refused} refused, ${notice.failed} failed, ${notice.unmatched} unmatched`,
    "",
  )
  for (const one of found.items) printRecipient(one)
  printMore(found)
}

function printRecipient({ name, named, channel, state, why, due, message, like = [] }: RecipientView): void {
  const who = inLine(name ?? named ?? "somebody", 50)
  const tint = state === "said" ? colors.green : state === "waiting" ? colors.yellow : colors.red
  const until = due ? ` until ${when(due)}` : ""
  print(
    `  ${tint(state)} ${colors.bold(who)}${channel ? ` on ${inLine(channel, 30)}` : ""}${until}${why ? `: ${inLine(why, 200)}` : ""}${message ? colors.dim(` ${message}`) : ""}`,
  )
  for (const { name: other, contact, would } of like)
    print(colors.dim(`    ${inLine(other ?? contact, 40)} would match: ${inLine(would, 160)} (${contact})`))
}
