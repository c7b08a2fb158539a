import type { Command } from "commander"
import type { ExamplesShown } from "../client/types.ts"
import { CommandFault, connect } from "./context.ts"
import { exampleHelp, examplesFrom, shortSorts, textOf } from "./examples.ts"
import { asJson, colors, inLine, print, table, wrapped } from "./output.ts"
import { collect, pairs } from "./values.ts"

interface Options {
  name?: string
  into?: string
  entry?: string
  keep?: boolean
  json?: boolean
}

/** `wobbet profile from-request`: how a message is sent, from the example in a gateway's documentation. */
export function fromRequestCommand(profile: Command): void {
  profile
    .command("from-request")
    .description("read the example request of a gateway's documentation, and propose how a message is sent")
    .argument("<file...>", `${exampleHelp}; - reads what comes in`)
    .option("--name <profile>", "the profile's name", "new-gateway")
    .option("--into <profile>", "lay it over a profile there is, such as one that was learned from a call")
    .option("--entry <n>", "which request of a HAR file")
    .option("--keep", "keep the profile, so that channels can use it")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
Examples:
  wobbet profile from-request send.txt
  wobbet profile from-request send.txt register=hook.txt me=who.txt --name holm-bridge --keep

The file holds a curl command as for a Unix shell, the Windows command prompt or PowerShell, a request as HTTP, or a HAR
file. Keys in it are taken out: they become secrets of the channel, and are never shown or kept.`,
    )
    .action(fromRequest)
}

/** `wobbet profile from-openapi`: the same from a gateway's OpenAPI document. */
export function fromOpenApiCommand(profile: Command): void {
  profile
    .command("from-openapi")
    .description("read a gateway's OpenAPI document: list its calls, and propose a profile of those you pick")
    .argument("<file>", "an OpenAPI 3 document, JSON or YAML; - reads what comes in")
    .option("--send <operation>", "the operation that sends a message")
    .option("--webhook <name>", "the webhook that brings a message")
    .option(
      "--also <sort=operation>",
      `a further one, and what it is for: ${Object.keys(shortSorts).join("=, ")}=`,
      collect,
    )
    .option("--name <profile>", "the profile's name", "new-gateway")
    .option("--keep", "keep the profile, so that channels can use it")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
Examples:
  wobbet profile from-openapi holm.yaml                              the calls it describes
  wobbet profile from-openapi holm.yaml --send sendText --webhook incoming --name holm-bridge --keep`,
    )
    .action(fromOpenApi)
}

async function fromOpenApi(
  file: string,
  options: Options & { send?: string; webhook?: string; also?: string[] },
): Promise<void> {
  const more = Object.entries(pairs(options.also)).map(([sort, operation]) => {
    const as = shortSorts[sort]
    if (!as)
      throw new CommandFault(
        `"${sort}" is nothing an operation can be for.`,
        `There are: ${Object.keys(shortSorts).join(", ")}.`,
      )
    return { operation, as }
  })
  const made = await connect().fromOpenApi({
    document: textOf(file),
    name: options.name ?? "new-gateway",
    ...(options.send === undefined ? {} : { send: options.send }),
    ...(options.webhook === undefined ? {} : { webhook: options.webhook }),
    more,
    ...(options.keep ? { keep: true } : {}),
  })
  if (made.faults || made.lacks.length > 0) process.exitCode = 1
  if (asJson(options, made)) return
  if (options.send === undefined && options.webhook === undefined) {
    table(
      [{ name: "call", whole: true }, "sort", "method", "path", { name: "what it is", spare: true }],
      made.offered.map(({ name, sort, method, path, says }) => [name, sort, method, path, says]),
      "The document describes no calls.",
    )
    return print("", "Pick with --send <operation> and --webhook <name>.")
  }
  printProfile(made, options)
}

async function fromRequest(files: string[], options: Options): Promise<void> {
  const made = await connect().fromRequests({
    examples: examplesFrom(files, options.entry === undefined ? undefined : Number(options.entry)),
    name: options.name ?? "new-gateway",
    ...(options.into === undefined ? {} : { into: options.into }),
    ...(options.keep ? { keep: true } : {}),
  })
  if (made.faults || made.lacks.length > 0) process.exitCode = 1
  if (asJson(options, made)) return
  printProfile(made, options)
}

function printProfile(made: ExamplesShown, options: Options): void {
  printExamples(made)
  const { name, source, faults } = made
  if (faults) {
    for (const fault of faults) print(`${colors.red("✕")} ${wrapped(fault, 2)}`)
    return print("", "No profile was written.")
  }
  print("", colors.dim(source!.trimEnd()), "")
  if (!options.keep)
    return print(`Keep it with --keep, or write it to a file, change it there, and set it: wobbet profile set <file>.`)
  print(`${colors.green("●")} ${name} is saved${made.file ? ` (${made.file} of the bot folder)` : ""}.`)
  const settings = made.settings.map((one) => ` --set ${one.name}=…`).join("")
  const secrets = made.secrets.map((one) => ` --secret ${one.name}=env:…`).join("")
  print(
    `Next: wobbet channel add custom <key> --set profile=${name} --set apiBase=${made.apiBase}${settings}${secrets}`,
  )
}

function printExamples(made: ExamplesShown): void {
  table(
    ["what it is", "call", { name: "found in it", spare: true }],
    made.calls.map(({ sort, calling, found }) => [
      sort,
      `${calling.method} ${inLine(calling.address, 60)}`,
      found.map((one) => inLine(one, 80)).join("; "),
    ]),
    "There are no examples.",
  )
  print("")
  for (const { name, says } of made.secrets)
    print(`${colors.green("●")} the secret ${name} (${inLine(says, 100)}); its value was taken out`)
  for (const { name, says } of made.settings) print(`${colors.green("●")} the setting ${name} (${inLine(says, 100)})`)
  for (const lack of made.lacks) print(`${colors.red("✕")} ${wrapped(inLine(lack, 300), 2)}`)
  for (const { stays } of made.calls)
    if (stays.length > 0)
      print(`${colors.dim("○")} the same for everybody: ${wrapped(inLine(stays.join("; "), 600), 2)}`)
  for (const doubt of made.doubts) print(`${colors.yellow("○")} not certain: ${wrapped(inLine(doubt, 300), 2)}`)
}
