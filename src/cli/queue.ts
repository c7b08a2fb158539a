import { readFileSync } from "node:fs"
import { text } from "node:stream/consumers"
import type { Command } from "commander"
import type { ElsewhereAnswer, LeaseView, ReplyGiven } from "../client/types.ts"
import { connect, CommandFault } from "./context.ts"
import { asJson, clock, colors, inLine, print, printMore, table, when, wideHelp } from "./output.ts"

interface LeaseOptions {
  most: string
  wait: string
  seconds: string
  bot?: string
  lane?: string
  json?: boolean
}

/** `wobbet queue list | show | lease | finish | release | extend`. */
export function queueCommands(program: Command): void {
  const queue = program.command("queue").description("turns that wait until a worker answers them")

  queue
    .command("list")
    .description("all queues: how many wait, how many are leased, and since when the oldest waits")
    .option("--json", "for programs")
    .action(list)

  queue
    .command("show")
    .description("the turns that wait at a queue, the longest waiting first, and who holds them")
    .argument("<name>")
    .option("--limit <n>", "how many at most", "50")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(show)

  queue
    .command("lease")
    .description("take turns off a queue, to answer them")
    .argument("<name>")
    .option("--most <n>", "how many at most", "1")
    .option("--wait <seconds>", "wait up to 30 seconds where there is none", "0")
    .option("--seconds <n>", "after so many it comes back by itself", "60")
    .option("--bot <bot>", "of this bot alone")
    .option("--lane <lane>", "of this lane alone")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
Exit code 1 where there is none. In a shell script:
  turn=$(wobbet queue lease baggage --wait 30 --json) && …
  echo "$turn" | jq -r .items[0].turn.message.text`,
    )
    .action(lease)

  queue
    .command("finish")
    .description("answer a turn that was leased")
    .argument("<name>")
    .argument("<lease>")
    .option("--text <words>", "what is said; may be given several times", several, [])
    .option("--answer <file>", "the whole answer as JSON, from a file or from standard input (-)")
    .option("--state <json>", "the conversation's new state")
    .option("--leave", "leave the conversation to a person")
    .option("--json", "for programs")
    .action(finish)

  queue
    .command("release")
    .description("give a lease back, unanswered")
    .argument("<name>")
    .argument("<lease>")
    .option("--after <seconds>", "before anybody gets it again", "0")
    .option("--json", "for programs")
    .action(async (name: string, lease: string, options: { after: string; json?: boolean }) => {
      await connect().releaseTurn(name, lease, numberOf(options.after, "--after"))
      if (!asJson(options, { lease, released: true })) print("Given back; others may lease it.")
    })

  queue
    .command("extend")
    .description("keep a lease for longer")
    .argument("<name>")
    .argument("<lease>")
    .option("--seconds <n>", "from now", "60")
    .option("--json", "for programs")
    .action(async (name: string, lease: string, options: { seconds: string; json?: boolean }) => {
      const { until } = await connect().extendLease(name, lease, numberOf(options.seconds, "--seconds"))
      if (!asJson(options, { lease, until })) print(`Held until ${clock(until)}.`)
    })
}

const several = (one: string, before: string[]) => [...before, one]

function numberOf(given: string, option: string): number {
  const value = Number(given)
  if (given.trim() !== "" && Number.isFinite(value)) return value
  throw new CommandFault(`${option} is "${given}"; it takes a number.`, `Give it as ${option} 60.`)
}

async function list(options: { json?: boolean }): Promise<void> {
  const found = await connect().queues()
  if (asJson(options, found)) return
  table(
    ["queue", "waiting", "leased", "oldest since"],
    found.items.map(({ queue, waiting, leased, more, oldest }) => [
      queue,
      `${waiting}${more ? "+" : ""}`,
      String(leased),
      oldest ? when(oldest) : "",
    ]),
    "Nothing waits at any queue.",
  )
}

async function show(
  name: string,
  options: { limit: string; cursor?: string; json?: boolean; wide?: boolean },
): Promise<void> {
  const { limit, cursor } = options
  const found = await connect().queued(name, { limit, ...(cursor ? { cursor } : {}) })
  if (asJson(options, found)) return
  table(
    ["since", "who", "said", "held by", "until", { name: "leases", spare: true }, { name: "message", whole: true }],
    found.items.map((one) => [
      when(one.since),
      inLine(one.title ?? one.channel, 20),
      inLine(one.text, 36),
      one.leasedBy ? inLine(one.leasedBy, 16) : colors.dim("nobody"),
      clock(one.leasedUntil ?? one.until),
      String(one.leases),
      colors.dim(one.message),
    ]),
    `Nothing waits at the queue "${name}".`,
  )
  printMore(found)
}

async function lease(name: string, options: LeaseOptions): Promise<void> {
  const { bot, lane } = options
  const found = await connect().leaseTurns(name, {
    most: numberOf(options.most, "--most"),
    wait: numberOf(options.wait, "--wait"),
    seconds: numberOf(options.seconds, "--seconds"),
    ...(bot ? { bot } : {}),
    ...(lane ? { lane } : {}),
  })
  if (found.items.length === 0) process.exitCode = 1
  if (asJson(options, found)) return
  if (found.items.length === 0) return print(`Nothing waits at the queue "${name}".`)
  for (const one of found.items) printLease(one)
}

function printLease({ lease, queue, leases, leasedUntil, turn }: LeaseView): void {
  const { message, contact, state } = turn
  const times = leases > 1 ? `, the ${leases}. time` : ""
  print(
    `${colors.bold(inLine(contact.name ?? contact.address ?? "somebody", 60))}: ${inLine(String(message.text ?? `(${String(message.event)})`), 300)}`,
    `  yours until ${clock(leasedUntil)}${times}`,
    ...(Object.keys(state).length > 0 ? [colors.dim(`  state ${inLine(JSON.stringify(state), 300)}`)] : []),
    colors.dim(`  wobbet queue finish ${queue} ${lease} --text "…"`),
  )
}

interface FinishOptions {
  text: string[]
  answer?: string
  state?: string
  leave?: boolean
  json?: boolean
}

async function finish(name: string, lease: string, options: FinishOptions): Promise<void> {
  const answer = await answerOf(options)
  const done = await connect().finishTurn(name, { lease, ...answer })
  if (!asJson(options, done)) print("Answered.", colors.dim(`wobbet passage ${done.message} shows what became of it.`))
}

async function answerOf({ text: words, answer, state, leave }: FinishOptions): Promise<ElsewhereAnswer> {
  const whole =
    answer === undefined ? {} : readAnswer(answer === "-" ? await text(process.stdin) : fileOf(answer), answer)
  if (words.length === 0 && answer === undefined && leave !== true)
    throw new CommandFault("Nothing is answered.", "Say what: --text, --answer, or --leave.")
  return {
    ...whole,
    ...(words.length > 0 ? { replies: words satisfies ReplyGiven[] } : {}),
    ...(state === undefined ? {} : { state: readAnswer(state, "--state") }),
    ...(leave ? { leave: "person" as const } : {}),
  }
}

function fileOf(file: string): string {
  try {
    return readFileSync(file, "utf8")
  } catch (error) {
    throw new CommandFault(`${file} cannot be read: ${(error as Error).message}.`, "Name a file with JSON in it.")
  }
}

function readAnswer(json: string, from: string): { [field: string]: unknown } {
  try {
    const read = JSON.parse(json) as unknown
    if (typeof read === "object" && read !== null && !Array.isArray(read)) return read as { [field: string]: unknown }
  } catch {
    // Said below.
  }
  throw new CommandFault(`${from} holds no JSON object.`, 'Write one, such as {"replies": ["Your bag is here."]}.')
}
