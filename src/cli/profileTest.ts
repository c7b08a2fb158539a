import { existsSync, readdirSync, readFileSync, writeFileSync } from "node:fs"
import { basename, dirname, join } from "node:path"
import type { Command } from "commander"
import { stringify } from "yaml"
import type { SampleShown } from "../client/types.ts"
import { counted } from "../client/counted.ts"
import { CommandFault, connect } from "./context.ts"
import { textOf } from "./examples.ts"
import { asJson, colors, inLine, print, wrapped } from "./output.ts"
import { printFaults } from "./profileFaults.ts"

/** `wobbet profile test`: a profile's samples, run as a test. */
export function testCommand(profile: Command): void {
  profile
    .command("test")
    .description("run the samples beside a profile: calls, and what must come out of them")
    .argument("<file>", "a profile's YAML file; its samples lie in samples/<profile>/ or samples/ beside it")
    .option("--write", "write what came out, where nothing says yet what must")
    .option("--json", "for programs")
    .addHelpText(
      "after",
      `
A sample is a call as HTTP (first-text.http) and what must come out of it (first-text.yaml):
  secrets: { sharedWord: tide }
  messages: [{ from: "+447700900123", text: Hello, id: m-1 }]

With reply: and to: it is the other way round, and the call is the one that must go out.`,
    )
    .action(test)
}

async function test(file: string, options: { write?: boolean; json?: boolean }): Promise<void> {
  const source = textOf(file)
  const samples = samplesBeside(file, /^profile:\s*([\w-]+)/m.exec(source)?.[1])
  const { faults, results } = await connect().testProfile(
    source,
    samples.map(({ name, call, expect }) => ({ name, call, ...(expect === undefined ? {} : { expect }) })),
  )
  const failed = results.filter((one) => !one.passed)
  if (faults.length + failed.length > 0) process.exitCode = 1
  if (asJson(options, { faults, results })) return
  if (faults.length > 0) return printFaults(file, faults)
  for (const result of results) {
    const { path } = samples.find((one) => one.name === result.name)!
    printResult(result, path, options.write === true)
  }
  print("", `${results.length - failed.length} passed, ${failed.length} failed`)
}

function printResult({ name, passed, faults, came }: SampleShown, path: string, write: boolean): void {
  print(`${passed ? colors.green("●") : colors.red("✕")} ${name}`)
  for (const fault of faults) print(`  ${wrapped(inLine(fault, 400), 2)}`)
  if (!came) return
  const text = stringify(came)
  if (write) {
    writeFileSync(path.replace(/\.http$/, ".yaml"), text)
    return print(
      `  What came out is written to ${basename(path).replace(/\.http$/, ".yaml")}: read it, and correct what is wrong.`,
    )
  }
  print(colors.dim(text.trimEnd().replace(/^/gm, "  ")), "  Write it down with --write, and correct it.")
}

interface SampleFile {
  name: string
  path: string
  call: string
  expect?: string
}

function samplesBeside(file: string, profile: string | undefined): SampleFile[] {
  const beside = join(dirname(file), "samples")
  const own = join(beside, profile ?? "")
  const folder = profile !== undefined && existsSync(own) ? own : beside
  const names = existsSync(folder) ? readdirSync(folder).filter((name) => name.endsWith(".http")) : []
  if (names.length === 0)
    throw new CommandFault(
      `There are no samples in ${folder}.`,
      `Save a call of the gateway there, as HTTP: ${counted(1, "file")} such as first-text.http.`,
    )
  return names.sort().map((name) => {
    const path = join(folder, name)
    const words = path.replace(/\.http$/, ".yaml")
    const expect = existsSync(words) ? { expect: readFileSync(words, "utf8") } : {}
    return { name: name.replace(/\.http$/, ""), path, call: readFileSync(path, "utf8"), ...expect }
  })
}
