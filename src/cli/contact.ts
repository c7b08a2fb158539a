import { createInterface } from "node:readline/promises"
import { setTimeout as pause } from "node:timers/promises"
import type { Command } from "commander"
import { counted } from "../client/counted.ts"
import { connect, CommandFault } from "./context.ts"
import type { PersonWhole } from "../client/types.ts"
import type { ListOptions } from "./people.ts"
import { listPeople } from "./people.ts"
import { asJson, colors, inLine, print, when, wideHelp } from "./output.ts"

type JoinCode = Awaited<ReturnType<ReturnType<typeof connect>["makeJoinCode"]>>

/** `wobbet contact list | show | join | split | tag | set | block | forget`. */
export function contactCommands(program: Command): void {
  const contact = program
    .command("contact")
    .description("people: who they are on which channel, tags, fields, and who is blocked")

  contact
    .command("list")
    .description("everybody who ever spoke, in groups too")
    .argument("[words]", "part of a name, or an id")
    .option("--channel <key>", "of one channel")
    .option("--tag <tag>", "with a tag")
    .option("--limit <n>", "how many at most", "30")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action((text: string | undefined, options: ListOptions) => listPeople(text, options))

  contact
    .command("show")
    .description("one person: addresses, tags, fields, conversations and interviews")
    .argument("<id>", "the contact's id, as contact list shows it")
    .option("--json", "for programs")
    .action(async (id: string, options: { json?: boolean }) => {
      const shown = await connect().person(id)
      if (!asJson(options, shown)) printPerson(shown)
    })

  contact
    .command("join")
    .description("make two people one, or make a code that a person says on another channel to be known there")
    .argument("<id>", "the contact that stays; of fields with one name, its own count")
    .argument("[other]", "the contact that becomes it; without one, a code is made for the person to say")
    .option("--json", "for programs")
    .action(async (id: string, other: string | undefined, options: { json?: boolean }) => {
      if (other === undefined) return printCode(await connect().makeJoinCode(id), options)
      const joined = await connect().joinPeople(id, other)
      if (!asJson(options, joined)) printPerson(joined)
    })

  contact
    .command("split")
    .description("take an address away from a person: whoever is behind it is somebody else from now on")
    .argument("<id>", "the contact's id")
    .argument("<channel>", "the address's channel")
    .argument("<address>", "the provider's id")
    .option("--json", "for programs")
    .action(async (id: string, channel: string, address: string, options: { json?: boolean }) => {
      const made = await connect().splitPerson(id, channel, address)
      if (!asJson(options, made)) printPerson(made)
    })

  contact
    .command("tag")
    .description("tag a person, for a bot's conditions: contact: { tag: crew }")
    .argument("<id>", "the contact's id, as conversation list --people shows it")
    .argument("[tags...]", "tags to add")
    .option("--remove <tags>", "tags to take away, with commas between them")
    .option("--json", "for programs")
    .action(async (id: string, tags: string[], options: { remove?: string; json?: boolean }) => {
      const marked = await connect().markPerson(id, { addTags: tags, removeTags: tagsIn(options.remove) })
      if (asJson(options, marked)) return
      print(marked.tags.length > 0 ? `${id} has the tags ${marked.tags.join(", ")}.` : `${id} has no tags.`)
    })

  contact
    .command("block")
    .description("handle and answer nothing of theirs until that is lifted")
    .argument("<id>", "the contact's id, as conversation list --people shows it")
    .option("--off", "lift it")
    .option("--json", "for programs")
    .action(async (id: string, options: { off?: boolean; json?: boolean }) => {
      const done = await connect().blockPerson(id, options.off !== true)
      if (asJson(options, done)) return
      print(
        done.blockedAt === null
          ? `${id} is answered again. What was said meanwhile stays as it is.`
          : `${id} is blocked. What they say is kept, and nothing of it is answered.`,
      )
    })

  contact
    .command("forget")
    .description("remove everything a person said and was answered, and all that is remembered of them")
    .argument("<id>", "the contact's id")
    .option("--yes", "do not ask")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
What stays tells nothing of them: that messages were there, when, and which routes took them.
Whoever asked to be sent nothing more is still sent nothing: a keyed hash of the address remembers that.
It cannot be undone.`,
    )
    .action(forget)

  contact
    .command("set")
    .description("set fields of a person, for a bot's conditions and texts")
    .argument("<id>", "the contact's id")
    .argument("<fields...>", "name=value; name= removes one")
    .option("--json", "for programs")
    .action(async (id: string, given: string[], options: { json?: boolean }) => {
      const marked = await connect().markPerson(id, { fields: fieldsIn(given) })
      if (asJson(options, marked)) return
      const shown = Object.entries(marked.fields).map(([name, value]) => `${name} ${JSON.stringify(value)}`)
      print(shown.length > 0 ? `${id} has ${shown.join(", ")}.` : `${id} has no fields.`)
    })
}

function printCode({ code, until, contact }: JoinCode, options: { json?: boolean }): void {
  if (asJson(options, { contact, code, until })) return
  print(
    `Tell the person this code: ${colors.bold(code)}`,
    `  Said as a message on another channel, it makes them ${contact} there, too. It counts until ${when(until)}, and is shown only here.`,
  )
}

async function forget(id: string, options: { yes?: boolean; json?: boolean }): Promise<void> {
  const client = connect()
  if (options.yes !== true) {
    const shown = await client.person(id)
    if (!process.stdin.isTTY)
      throw new CommandFault(
        `Nobody can confirm here that ${id} is to be forgotten: this is not a terminal.`,
        "Repeat it with --yes. It cannot be undone.",
      )
    printPerson(shown)
    if (!(await isSure("Forget this person, and everything said with them? It cannot be undone.")))
      throw new CommandFault("Nobody was forgotten.")
  }
  let now = await client.forgetPerson(id)
  const shows = !options.json && process.stderr.isTTY
  while (now.endedAt === null) {
    if (shows) process.stderr.write(`\r  ${Math.floor(now.progress * 100)} % of the record looked through …  `)
    await pause(now.progress < 0.05 ? 300 : 1000)
    now = await client.forgetting(now.id)
  }
  if (shows) process.stderr.write(`\r${" ".repeat(50)}\r`)
  if (asJson(options, now)) return
  const { said, answered, media, calls, interviews, conversations } = now.removed
  print(
    `${colors.green("●")} ${id} is forgotten.`,
    `  Removed: ${counted(said, "message")} they sent, ${counted(answered, "answer")}, ${counted(media, "picture or file", "pictures and files")}, ${counted(interviews, "interview")}, the bodies of ${counted(calls, "received call")},`,
    `  and what was remembered of ${counted(conversations, "conversation")}.`,
    "  Backups made before still hold them: a restore forgets them again, by the list beside the database.",
  )
}

async function isSure(question: string): Promise<boolean> {
  const reader = createInterface({ input: process.stdin, output: process.stderr })
  try {
    return /^y(es)?$/i.test((await reader.question(`${question} (yes/no) `)).trim())
  } finally {
    reader.close()
  }
}

function printPerson({
  contact,
  name,
  tags,
  fields,
  blockedAt,
  addresses,
  conversations,
  interviews,
}: PersonWhole): void {
  print(`${colors.bold(inLine(name ?? "nameless", 60))}  ${colors.dim(contact)}`)
  if (blockedAt) print(colors.yellow(`  blocked since ${when(blockedAt)}`))
  for (const { channel, address, handle, language } of addresses)
    print(`  ${address} on ${channel}${handle ? `, @${inLine(handle, 40)}` : ""}${language ? `, ${language}` : ""}`)
  if (tags.length > 0) print(`  tags ${inLine(tags.join(", "), 200)}`)
  for (const [field, value] of Object.entries(fields))
    print(`  ${inLine(field, 40)}: ${inLine(JSON.stringify(value), 120)}`)
  for (const { id, channel, optedOut, noNotices, answeredBy, lastAt } of conversations)
    print(
      colors.dim(`  conversation ${id} on ${channel}${lastAt ? `, last ${when(lastAt)}` : ""}`) +
        (optedOut ? colors.yellow(`  wants to be sent nothing since ${when(optedOut)}`) : "") +
        (noNotices ? colors.yellow(`  wants nothing that starts here since ${when(noNotices)}`) : "") +
        (answeredBy === "person" ? "  a person answers there" : ""),
    )
  for (const { handler, stands, conversation } of interviews)
    print(`  interview ${handler}, ${stands}, in ${colors.dim(conversation)}`)
}

export function tagsIn(given: string | undefined): string[] {
  return (given ?? "").split(",").flatMap((tag) => tag.trim() || [])
}

/** A value is JSON where it can be read as such, and text otherwise. */
function fieldsIn(given: string[]): { [field: string]: unknown } {
  return Object.fromEntries(
    given.map((field) => {
      const at = field.indexOf("=")
      if (at < 1) throw new CommandFault(`"${field}" is not a field and its value.`, "Write it as cabin=12.")
      const value = field.slice(at + 1)
      if (value === "") return [field.slice(0, at), null]
      try {
        return [field.slice(0, at), JSON.parse(value) as unknown]
      } catch {
        return [field.slice(0, at), value]
      }
    }),
  )
}
