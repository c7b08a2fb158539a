import type { Command } from "commander"
import { ApiError } from "../client/client.ts"
import type { ChannelCheck, ChannelShown, Comparison, HandValue } from "../client/types.ts"
import { CommandFault, connect } from "./context.ts"
import { learnCommand } from "./learn.ts"
import type { Values } from "./values.ts"
import { collect, pairs, secrets } from "./values.ts"
import { counted } from "../client/counted.ts"
import { asJson, colors, inLine, print, table, when, wideHelp, wrapped } from "./output.ts"

/** `wobbet channel …`: add channels and look after them. */
export function channelCommands(program: Command): void {
  const channel = program.command("channel").description("channels: one account at one provider each")

  channel
    .command("add")
    .description("add a channel")
    .argument("<kind>", "telegram, whatsapp, messenger, slack, sms or custom")
    .argument("<key>", "its key, such as quay-telegram; part of its address")
    .option("--set <name=value>", "a setting, such as apiBase=… or receive=polling", collect)
    .option("--secret <name=value>", "a secret: name=value, name=@file or name=env:NAME", collect)
    .option("--json", "for programs")
    .addHelpText("after", "\nExample:\n  wobbet channel add telegram quay-telegram --secret token=env:QUAY_TOKEN")
    .action(add)

  channel
    .command("change")
    .description("change settings or secrets; what is not named stays")
    .argument("<key>")
    .option("--set <name=value>", "a setting; an empty value brings back the default", collect)
    .option("--secret <name=value>", "a secret: name=value, name=@file or name=env:NAME; name= takes it away", collect)
    .option("--keep-former", "let the secrets that are replaced verify calls until they are dropped")
    .option("--drop-former", "drop the secrets that were kept so")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
To replace a secret that calls are proven by, without losing a call:
  wobbet channel change <key> --secret appSecret=env:NEW --keep-former
  (enter the new one at the provider)
  wobbet channel change <key> --drop-former`,
    )
    .action(change)

  channel
    .command("list")
    .description("all channels")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(list)

  const one = (name: string, description: string, run: (key: string, options: Json) => Promise<void>) =>
    channel.command(name).description(description).argument("<key>").option("--json", "for programs").action(run)
  channel
    .command("show")
    .description("one channel, and whether the provider agrees with it")
    .argument("<key>")
    .option("--address", "the whole address to enter at the gateway, with the word that stands in it; shown once")
    .option("--json", "for programs")
    .action(show)
  one("check", "is it connected? checks the keys first and the last call last, to the first thing that is wrong", check)
  one("connect", "register the channel's address at the provider, and read back what is on record", connectOne)
  learnCommand(channel)
  one("pause", "stop handling and sending; what arrives waits", pause)
  one("resume", "handle and send again, beginning with what waited", resume)
  channel
    .command("remove")
    .description("remove a channel; what was said on it stays on record")
    .argument("<key>")
    .option("--drop-waiting", "also where messages or replies wait: they are lost")
    .option("--json", "for programs")
    .action(remove)
}

interface Json {
  json?: boolean
}

async function add(kind: string, key: string, options: Values): Promise<void> {
  const given = { kind, key, settings: pairs(options.set), secrets: secrets(options.secret) }
  const made = await connect().addChannel(given)
  if (asJson(options, made)) return
  const known = made.identity ? ` The keys belong to ${who(made)}.` : ""
  print(
    `Added ${made.kind} channel ${colors.bold(key)}.${known} Its inlet is ${made.inlet}`,
    made.connects
      ? `Next: wobbet channel check ${key}, then wobbet channel connect ${key}.`
      : `Next: wobbet channel check ${key}, which also lists what to enter at the provider by hand.`,
  )
  if (!made.release) print(nobodyAnswers(made))
}

/** Settings whose change the provider must be told of. */
const toldOf = ["receive", "publicUrl"]

async function remove(key: string, options: Json & { dropWaiting?: boolean }): Promise<void> {
  const dropped = await connect().removeChannel(key, options.dropWaiting ? "drop" : "refuse")
  if (asJson(options, dropped)) return
  const { turns, replies, parked } = dropped
  const lost =
    turns + replies + parked > 0
      ? ` With it went ${counted(turns, "message")}, ${counted(replies, "reply", "replies")} and ${parked} parked.`
      : ""
  print(`Removed ${key}.${lost} What was said on it stays on record.`)
  if (dropped.stillCalls !== undefined)
    print(
      colors.yellow(`Its address could not be taken away from the provider: ${dropped.stillCalls}.`),
      "  Take it away there by hand, or the provider calls on and is answered with 404.",
    )
}

async function change(key: string, options: Values & { keepFormer?: boolean; dropFormer?: boolean }): Promise<void> {
  const settings = Object.fromEntries(
    Object.entries(pairs(options.set)).map(([name, value]) => [name, value === "" ? null : value]),
  )
  if (options.keepFormer && !options.secret)
    throw new CommandFault(
      "--keep-former keeps the secrets that are replaced, and none is.",
      "Name the new one: --secret name=…",
    )
  if (!options.set && !options.secret && !options.dropFormer)
    throw new CommandFault("Nothing is named that should change.", "Name it: --set name=value, or --secret name=…")
  const changed = await connect().changeChannel(key, {
    settings,
    secrets: secrets(options.secret),
    ...(options.keepFormer ? { keepFormer: true } : {}),
    ...(options.dropFormer ? { dropFormer: true } : {}),
  })
  if (asJson(options, changed)) return
  if (changed.formerSecrets && options.keepFormer)
    print(`The former ${changed.formerSecrets.join(" and ")} still counts: drop it once the provider has the new one.`)
  if (options.dropFormer && !options.set && !options.secret)
    return print(`Only the present secrets of ${key} count now.`)
  const names = [...Object.keys(settings), ...(options.secret ?? []).map((pair) => pair.split("=")[0])]
  print(`Changed ${key}: ${names.join(", ")}.`)
  if (!changed.release) print(nobodyAnswers(changed))
  if (changed.connects && (toldOf.some((name) => name in settings) || names.includes("hookSecret")))
    print(`Next: wobbet channel connect ${key}, so that the provider knows.`)
  else if (options.secret) print(`Next: wobbet channel check ${key}.`)
}

async function list(options: Json): Promise<void> {
  const { items } = await connect().channels()
  if (asJson(options, items)) return
  table(
    [{ name: "channel", whole: true }, "kind", "state", "who", { name: "receives", spare: true }, "last genuine call"],
    items.map((shown) => [
      shown.key,
      shown.kind,
      stateWord(shown),
      who(shown),
      receives(shown),
      when(shown.lastGenuine),
    ]),
    "There are no channels yet. Add one: wobbet channel add telegram <key> --secret token=…",
  )
}

async function show(key: string, options: Json & { address?: boolean }): Promise<void> {
  const client = connect()
  if (options.address) {
    const shown = await client.wholeAddress(key)
    if (!asJson(options, shown))
      print(shown.address, colors.dim("It is shown this once: enter it at the gateway, and let nobody else have it."))
    return
  }
  const shown = await client.channel(key)
  const compared = await client.channelRecord(key).catch((error: unknown): Comparison => {
    if (!(error instanceof ApiError)) throw error
    return { differences: [], fault: { says: error.message, remedy: error.remedy } }
  })
  if (asJson(options, { ...shown, record: compared })) return
  printChannel(shown)
  printComparison(shown, compared)
  if (compared.fault || compared.differences.length > 0) process.exitCode = 1
}

async function check(key: string, options: Json): Promise<void> {
  const checked = await connect().checkChannel(key)
  if (!checked.ok) process.exitCode = 1
  if (!asJson(options, checked)) printCheck(checked)
}

async function connectOne(key: string, options: Json): Promise<void> {
  const client = connect()
  const compared = await client.connectChannel(key)
  if (compared.fault || compared.differences.length > 0) process.exitCode = 1
  if (asJson(options, compared)) return
  printComparison(await client.channel(key), compared)
}

async function pause(key: string, options: Json): Promise<void> {
  const shown = await connect().pauseChannel(key)
  if (!asJson(options, shown)) print(`${key} is paused: what arrives waits; nothing is handled or sent.`)
}

async function resume(key: string, options: Json): Promise<void> {
  const shown = await connect().resumeChannel(key)
  if (!asJson(options, shown)) print(`${key} is resumed: what waited is handled and sent.`)
}

const marks = { right: "●", wrong: "✕", open: "○", left: "·" } as const

/** Line by line: a mark, a sentence, and what to do. */
export function printCheck(checked: ChannelCheck): void {
  const tints = { right: colors.green, wrong: colors.red, open: colors.yellow, left: colors.dim }
  for (const { about, mark, says, remedy, passage } of checked.lines) {
    const tint = tints[mark]
    print(
      `${tint(marks[mark])} ${about.padEnd(18)} ${mark === "left" ? colors.dim(sentence(says)) : wrapped(sentence(says), 21)}`,
    )
    if (remedy && mark !== "left") print(`${" ".repeat(21)}${colors.dim(wrapped(remedy, 21))}`)
    if (passage) print(`${" ".repeat(21)}${colors.dim(`wobbet passage ${passage} shows it.`)}`)
  }
  if (checked.resumed) print("", "The lock-out is over; what waited is being sent.")
  if (checked.byHand && checked.byHand.length > 0) printByHand(checked.byHand)
}

/** A channel without a bot takes everything and answers nothing. */
function nobodyAnswers({ key, bot, lane }: ChannelShown): string {
  return colors.yellow(
    `○ Nobody answers ${key}: no bot ${bot ? `"${bot}" ` : ""}is known on the lane "${lane}". "wobbet channel check ${key}" says which there are.`,
  )
}

function sentence(text: string): string {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}${/[.!?]$/.test(text) ? "" : "."}`
}

function printByHand(byHand: HandValue[]): void {
  print("", "  To be entered at the provider, by hand:")
  const width = Math.max(...byHand.map(({ field }) => field.length))
  for (const { field, value, done } of byHand) {
    const mark = done === undefined ? " " : done ? colors.green("●") : colors.red("✕")
    print(`${mark} ${colors.dim(field.padEnd(width))}  ${wrapped(value, width + 4)}`)
  }
  print("")
}

function printChannel(shown: ChannelShown): void {
  line("channel", `${colors.bold(shown.key)} (${shown.kind})`)
  line("state", stateWord(shown))
  if (shown.reason) line("", `${shown.reason}. ${shown.remedy ?? ""}`)
  line(
    "bot",
    shown.release
      ? `${shown.bot ?? "any"}, lane ${shown.lane}, release ${shown.release}`
      : nobodyAnswers(shown).replace(/^○ /, ""),
  )
  line("who", who(shown))
  for (const remark of shown.identity?.remarks ?? []) line("", remark)
  line("receives", receives(shown))
  for (const no of shown.cannot ?? []) line("", colors.yellow(no))
  if (shown.fields) line("fields", `${shown.fields.join(", ")} (message.fields)`)
  if (shown.extras) line("extras", shown.extras.map(({ name, says }) => `${name} (${says})`).join(", "))
  if (shown.learning)
    line("", colors.yellow(`${shown.learning.by} waits for a call to learn from, until ${when(shown.learning.until)}`))
  if (shown.bringing)
    line(
      "",
      colors.yellow(
        `its calls wait for ${shown.bringing.by}, who has taken ${shown.bringing.taken}; ${shown.bringing.waiting} wait`,
      ),
    )
  if (shown.polling) line("", `${colors.red("✕")} ${shown.polling.says}. ${shown.polling.remedy}`)
  line(
    "settings",
    Object.entries(shown.settings)
      .map(([name, value]) => `${name}=${String(value)}`)
      .join("  ") || "–",
  )
  line("secrets", `${shown.secrets.join(", ")} (sealed)`)
  if (shown.formerSecrets)
    line("", colors.yellow(`the former ${shown.formerSecrets.join(", ")} still counts; --drop-former ends that`))
  line("last call", `genuine ${when(shown.lastGenuine)}, refused ${when(shown.lastRefused)}`)
}

function printComparison(shown: ChannelShown, compared: Comparison): void {
  line("our inlet", shown.inlet)
  if (compared.fault)
    line("on record", `${colors.red("✕")} could not be read: ${compared.fault.says}. ${compared.fault.remedy}`)
  else {
    if (compared.byHand) printByHand(compared.byHand)
    if (compared.onRecord) printRecord(shown, compared.onRecord, compared.differences)
    else print(colors.dim("The provider does not tell what it has on record."))
  }
  printPresence(compared)
  printHistory(compared)
}

function line(name: string, value: string): void {
  print(`${colors.dim(name.padEnd(12))}${value}`)
}

function printRecord(shown: ChannelShown, record: NonNullable<Comparison["onRecord"]>, differences: string[]): void {
  const perApp = shown.kind === "whatsapp" || shown.kind === "messenger"
  line(
    "on record",
    record.address ?? (perApp ? "the app's own address, which the provider does not tell" : "no address"),
  )
  if (record.events) line("", `sends ${record.events.join(", ")}`)
  if (record.waiting) line("", `${record.waiting} updates wait at the provider`)
  if (record.lastError)
    line(
      "",
      `its last call failed${record.lastError.at ? ` at ${when(record.lastError.at)}` : ""}: ${record.lastError.says}`,
    )
  if (differences.length === 0) {
    const agree =
      shown.receives === "polling"
        ? "They agree: the channel polls, and no address is on record."
        : record.address
          ? "The two addresses agree."
          : "Everything that can be asked for is as it should be."
    print(`${colors.green("●")} ${agree}`)
  }
  for (const difference of differences) print(`${colors.red("✕")} ${difference}`)
}

/** What people see of the bot at the provider. */
function printPresence({ account }: Comparison): void {
  if (!account) return
  if (account.set) print(`${colors.green("●")} Set at the provider: ${account.set.join(", ")}.`)
  if (account.fault) print(`${colors.red("✕")} What people see of the bot: ${account.fault}.`)
  for (const { field, wanted, now, byHand } of account.differences) {
    const is = now === undefined ? "" : `, and is "${inLine(now, 100)}" there`
    const how = byHand === undefined ? "Connecting sets it." : `Only a person can set it: ${byHand}.`
    print(`${colors.yellow("○")} ${field}: the bot wants "${inLine(wanted, 160)}"${is}. ${how}`)
  }
}

function printHistory({ history }: Comparison): void {
  if (!history) return
  print(
    "fault" in history
      ? `${colors.yellow("○")} What was said before could not be fetched: ${history.fault}.`
      : `${colors.green("●")} ${counted(history.fetched, "message")} said before ${history.fetched === 1 ? "was" : "were"} fetched; nothing answers them.`,
  )
}

function stateWord(shown: ChannelShown): string {
  if (shown.learning) return colors.yellow("learning")
  if (shown.bringing) return colors.yellow(`on, brought to ${shown.bringing.by}`)
  if (shown.state === "on") return shown.polling ? colors.yellow("on, but not receiving") : colors.green("on")
  return shown.state === "paused" ? colors.yellow("paused") : colors.red("locked out")
}

function who(shown: ChannelShown): string {
  if (!shown.identity) return "not checked yet"
  return (
    [shown.identity.name, shown.identity.handle && `@${shown.identity.handle}`].filter(Boolean).join(" ") ||
    shown.identity.id
  )
}

function receives(shown: ChannelShown): string {
  if (shown.cannot?.some((one) => one.startsWith("it only sends"))) return "nothing"
  return shown.receives === "polling" ? "by polling" : "by webhook"
}
