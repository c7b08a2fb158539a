import { createInterface } from "node:readline/promises"
import type { Command } from "commander"
import type { Method, TriedShown, TryRequest } from "../client/types.ts"
import { CommandFault, connect } from "./context.ts"
import { asJson, colors, inLine, print, table } from "./output.ts"

const methods: readonly string[] = ["GET", "POST", "PUT", "PATCH", "DELETE"] satisfies Method[]

interface Options {
  yes?: boolean
  json?: boolean
}

/** `wobbet call`: one of the provider's own calls, tried with a channel's keys. */
export function callCommand(program: Command): void {
  program
    .command("call")
    .description("try one of the provider's own calls with a channel's keys, and see the raw answer")
    .argument("<channel>")
    .argument(
      "[operation...]",
      "a call's name, one of the words me, record, groups, status, or METHOD /path; then field=value",
    )
    .option("--yes", "make a call that may change something, without asking")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
Examples:
  wobbet call quay-telegram                      the calls that are known
  wobbet call quay-telegram me                   who am I?
  wobbet call quay-telegram getChat chat_id=-1001234567890
  wobbet call quay-slack groups
  wobbet call holm-bridge GET /v1/instances limit=5
  wobbet call quay-telegram setMyCommands 'commands=[{"command":"book","description":"Book seats"}]'

A value that is a JSON object, list, true, false or null is given as such; every other is text.`,
    )
    .action(call)
}

async function call(channel: string, words: string[], options: Options): Promise<void> {
  const client = connect()
  if (words.length === 0) return list(channel, options)
  const request = requestIn(words)
  let tried = await client.tryCall(channel, { ...request, really: options.yes === true })
  if (!tried.answer && tried.failure === undefined) {
    if (options.json && !options.yes) {
      asJson(options, tried)
      process.exitCode = 1
      return
    }
    printRequest(tried)
    if (!(await means())) {
      print("Nothing was called.")
      process.exitCode = 1
      return
    }
    tried = await client.tryCall(channel, { ...request, really: true })
  } else if (!options.json) printRequest(tried)
  if (tried.failure !== undefined || tried.answer!.status >= 400) process.exitCode = 1
  if (!asJson(options, tried)) printAnswer(tried)
}

async function list(channel: string, options: Options): Promise<void> {
  const { items } = await connect().operations(channel)
  if (asJson(options, items)) return
  table(
    [{ name: "call", whole: true }, "word", "method", "what it is for", { name: "fields", spare: true }],
    items.map(({ name, word, method, says, fields, usual }) => [
      name,
      word ?? "",
      method,
      says,
      [...(fields ?? []), ...Object.keys(usual ?? {})].join(", "),
    ]),
    "None is known: call a path, such as GET /me.",
  )
  print(
    "",
    colors.dim("Any other is called by its path: wobbet call <channel> GET /path field=value. All but GET ask first."),
  )
}

function requestIn(words: string[]): Omit<TryRequest, "really"> {
  const [first = "", second, ...rest] = words
  const isMethod = methods.includes(first.toUpperCase())
  const isPath = first.startsWith("/")
  const given = isMethod ? rest : words.slice(1)
  const fields = fieldsIn(given)
  if (isPath) return { method: "GET", path: first, fields }
  if (!isMethod) return { operation: first, fields }
  if (second === undefined || second.includes("="))
    throw new CommandFault(`${first} is followed by no path.`, `Write it as ${first} /path field=value.`)
  return { method: first.toUpperCase() as Method, path: second, fields }
}

function fieldsIn(given: string[]): { [name: string]: unknown } {
  return Object.fromEntries(
    given.map((pair) => {
      const at = pair.indexOf("=")
      if (at < 1) throw new CommandFault(`"${pair}" is not field=value.`, "Write each field as name=value.")
      return [pair.slice(0, at), valueOf(pair.slice(at + 1))]
    }),
  )
}

function valueOf(text: string): unknown {
  if (!/^(\{.*\}|\[.*\]|true|false|null)$/s.test(text)) return text
  try {
    return JSON.parse(text)
  } catch {
    return text
  }
}

function printRequest({ request }: TriedShown): void {
  print(`${colors.bold(request.method)} ${inLine(request.address, 400)}`)
  for (const [name, value] of Object.entries(request.headers)) print(`${colors.dim(`${name}:`)} ${inLine(value, 200)}`)
  if (request.body !== undefined) print("", pretty(request.body))
  print("")
}

function printAnswer({ answer, failure, milliseconds }: TriedShown): void {
  if (failure !== undefined)
    return print(`${colors.red("✕")} No answer came after ${milliseconds} ms: ${inLine(failure, 300)}`)
  const { status, headers, body, cut } = answer!
  const tint = status < 300 ? colors.green : status < 400 ? colors.yellow : colors.red
  print(`${tint(String(status))} ${colors.dim(`after ${milliseconds} ms`)}`)
  for (const [name, value] of Object.entries(headers))
    print(`${colors.dim(`${inLine(name, 60)}:`)} ${inLine(value, 200)}`)
  print("", pretty(body))
  if (cut !== undefined) print(colors.dim(`(the first ${body.length} of ${cut} characters)`))
}

/** JSON in lines of its own; anything else as it came, line by line. */
function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2)
      .split("\n")
      .map((line) => line.replace(/^( *)(.*)$/, (_whole, indent: string, rest: string) => indent + inLine(rest, 2000)))
      .join("\n")
  } catch {
    return text
      .split("\n")
      .map((line) => inLine(line, 2000))
      .join("\n")
  }
}

async function means(): Promise<boolean> {
  if (!process.stdin.isTTY)
    throw new CommandFault(
      "Nobody can confirm here: this is not a terminal.",
      "Say --yes to make the call. Nothing was called.",
    )
  const ask = createInterface({ input: process.stdin, output: process.stdout })
  const answer = await ask.question("This may change something at the provider. Call it? [y/N] ")
  ask.close()
  return /^y(es)?$/i.test(answer.trim())
}
