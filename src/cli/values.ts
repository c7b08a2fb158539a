import { readFileSync } from "node:fs"
import { CommandFault } from "./context.ts"

/** What commands take as `--set name=value` and `--secret name=value`. */
export interface Values {
  set?: string[]
  secret?: string[]
  json?: boolean
}

export const collect = (value: string, before: string[] = []) => [...before, value]

/** Settings by name. */
export function pairs(given: string[] = []): { [name: string]: string } {
  return Object.fromEntries(
    given.map((pair) => {
      const at = pair.indexOf("=")
      if (at < 1) throw new CommandFault(`"${pair}" is not name=value.`, "Write it as --set apiBase=https://…")
      return [pair.slice(0, at), pair.slice(at + 1)]
    }),
  )
}

/** Secrets may come from a file or the environment, so that they stay out of the shell's history. */
export function secrets(given: string[] = []): { [name: string]: string } {
  return Object.fromEntries(
    Object.entries(pairs(given)).map(([name, value]) => {
      if (value.startsWith("@")) return [name, filled(name, fileSecret(name, value.slice(1)))]
      if (!value.startsWith("env:")) return [name, value]
      const found = process.env[value.slice(4)]
      if (found === undefined)
        throw new CommandFault(
          `The environment has no ${value.slice(4)} for the secret ${name}.`,
          "Set it, or give the secret as name=@file.",
        )
      return [name, filled(name, found)]
    }),
  )
}

function fileSecret(name: string, file: string): string {
  try {
    return readFileSync(file, "utf8").trim()
  } catch {
    throw new CommandFault(`The file ${file} for the secret ${name} cannot be read.`, "Is the path right?")
  }
}

/** Only what is written as nothing takes a secret away: an empty file or variable is a slip. */
function filled(name: string, value: string): string {
  if (value === "") throw new CommandFault(`The secret ${name} is empty.`, `To take it away, write --secret ${name}=`)
  return value
}

/**
 * A state as it is written on a command line.
 *
 * @param option that it was written under
 */
export function readState(json: string, option = "--state"): { [field: string]: unknown } {
  try {
    const state = JSON.parse(json) as unknown
    if (typeof state === "object" && state !== null && !Array.isArray(state))
      return state as { [field: string]: unknown }
  } catch {
    // Said below.
  }
  throw new CommandFault(`The state ${json} is not a JSON object.`, `Write it as ${option} '{"topic":"lost"}'.`)
}
