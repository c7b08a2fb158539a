import { readFileSync } from "node:fs"
import { basename, extname } from "node:path"
import { setTimeout as pause } from "node:timers/promises"
import type { Command } from "commander"
import type { Passage, SayRequest } from "../client/types.ts"
import { CommandFault, connect } from "./context.ts"
import { textOf } from "./examples.ts"
import { asJson, colors, inLine, print, rail, word } from "./output.ts"

interface Options {
  from?: string
  name?: string
  place?: string
  media?: string
  press?: string
  payload?: string
  again?: string
  really?: boolean
  wait: string
  json?: boolean
}

/** Types of files by their endings, as far as people try bots with them. */
const types: { [ending: string]: string } = {
  ".png": "image/png",
  ".jpg": "image/jpeg",
  ".jpeg": "image/jpeg",
  ".gif": "image/gif",
  ".webp": "image/webp",
  ".mp3": "audio/mpeg",
  ".ogg": "audio/ogg",
  ".wav": "audio/wav",
  ".mp4": "video/mp4",
  ".pdf": "application/pdf",
  ".txt": "text/plain",
}

/** `wobbet say`: an inbound call as the provider would make it, so that nobody needs a telephone. */
export function sayCommand(program: Command): void {
  program
    .command("say")
    .description("say something to the bot without a telephone: a call as the provider would make it")
    .argument("[channel]", "left out with --again, which knows it")
    .argument("[text...]", "what a person says")
    .option("--from <address>", "as whom; a made-up person when left out")
    .option("--name <name>", "that person's name")
    .option("--place <address>", "in a group, by its address")
    .option("--media <file>", "with a picture, sound or file")
    .option("--press <id>", "press an option, by its id")
    .option(
      "--payload <file>",
      "a call's body as the provider would send it, in place of everything else; - reads what comes in",
    )
    .option("--again <passage>", "what was said before, once more: by the passage's id, or that of any message in it")
    .option("--really", "let replies go to the provider, instead of capturing them")
    .option("--wait <seconds>", "how long to wait for the answer", "10")
    .option("--json", "for programs: the passage")
    .addHelpText(
      "after",
      `
Examples:
  wobbet say quay-telegram "when is the next boat"
  wobbet say quay-slack /claims
  wobbet say quay-whatsapp "is this yours?" --media bag.jpg
  wobbet say quay-telegram --press book:yes
  wobbet say --again msg_01j…

The call is signed with the channel's own secrets, taken in at its inlet and marked as simulated. Replies are captured:
nothing leaves, unless you say --really, or --from names somebody a stand-in on this machine plays.`,
    )
    .action(say)
}

async function say(named: string | undefined, words: string[], options: Options): Promise<void> {
  const client = connect()
  const before = options.again === undefined ? undefined : await client.passage(options.again)
  const channel = named ?? before?.channel
  if (channel === undefined) throw new CommandFault("No channel is named.", 'Name one: wobbet say <channel> "hello".')
  const again = before && (before.intake?.id ?? before.id)
  const said = await client.say(channel, { ...requestIn(words, options), ...(again === undefined ? {} : { again }) })
  const passage = await settled(said.passage, Number(options.wait) * 1000)
  if (asJson(options, { ...said, ...(passage ? { stops: passage.stops, paths: passage.paths } : {}) })) return
  print(
    `${colors.dim("simulated")} ${inLine(said.from.name, 40)} ${colors.dim(`(${inLine(said.from.address, 40)}) on ${channel}`)}`,
  )
  if (!passage) return print(`No record of it yet: wobbet passage ${said.passage}`)
  print(`${rail(passage.stops)}  ${word(passage.stops)}`)
  const replies = passage.paths.flatMap((path) => path.replies)
  for (const { message } of replies) print(`← ${inLine(message.text, 600)}`)
  const stopped = passage.stops.find((stop) => stop.state === "stopped")
  if (stopped) {
    // That no route is met is an answer, too.
    if (stopped.stop !== "routed") process.exitCode = 1
    print(colors.red(inLine(stopped.why ?? stopped.stop, 300)))
  } else if (replies.length === 0) print(colors.dim("Nothing was answered."))
  print(
    "",
    colors.dim(
      `${replies.length === 0 ? "" : said.captured ? "The reply was captured: nothing left. " : "The reply was sent. "}wobbet passage ${said.passage} shows its way.`,
    ),
  )
}

function requestIn(words: string[], options: Options): Omit<SayRequest, "really"> & { really?: boolean } {
  const text = words.join(" ")
  const { from, name, place, press, really } = options
  if (text === "" && !options.media && !press && !options.payload && !options.again)
    throw new CommandFault("Nothing is said.", 'Say something, such as "hello", or give --press, --media or --payload.')
  return {
    ...(text === "" ? {} : { text }),
    ...(options.payload ? { payload: textOf(options.payload) } : {}),
    ...(options.media ? { media: fileAt(options.media) } : {}),
    ...(press ? { press } : {}),
    ...(from ? { from } : {}),
    ...(name ? { name } : {}),
    ...(place ? { place } : {}),
    ...(really ? { really } : {}),
  }
}

function fileAt(path: string): { data: string; mime: string; name: string } {
  let data: Buffer
  try {
    data = readFileSync(path)
  } catch {
    throw new CommandFault(`The file ${path} cannot be read.`, "Is the path right?")
  }
  const mime = types[extname(path).toLowerCase()] ?? "application/octet-stream"
  return { data: data.toString("base64"), mime, name: basename(path) }
}

/** The passage once nothing in it is under way any more, or as it stands when the time is over. */
async function settled(id: string, within: number): Promise<Passage | undefined> {
  const client = connect()
  for (const end = Date.now() + within; ;) {
    const passage = await client.passage(id).catch(() => undefined)
    const open = passage?.stops.some((stop) => stop.state === "under way" && stop.stop !== "delivered") ?? true
    if (!open || Date.now() > end) return passage
    await pause(150)
  }
}
