import { readFileSync } from "node:fs"
import { join, resolve } from "node:path"
import { Client } from "../client/client.ts"
import { shownWithin } from "../client/shown.ts"

/** Something a command cannot do: said in a sentence, with what to do next. Exit code 1. */
export class CommandFault extends Error {
  constructor(
    message: string,
    readonly remedy = "",
  ) {
    super(message)
  }
}

/** Whether a program reads what is printed. */
export const forPrograms = () => process.argv.includes("--json")

/**
 * Where the service is and who we are: from the environment, else the local service's own token file. What strangers wrote
 * comes with escapes for all that a terminal obeys; programs get it as it was written.
 */
export function connect(): Client {
  const env = process.env
  const url = (env.WOBBET_URL ?? `http://127.0.0.1:${env.WOBBET_PORT ?? "4180"}`).replace(/\/+$/, "")
  return new Client(url, env.WOBBET_TOKEN ?? localToken(env), forPrograms() ? undefined : shownWithin)
}

function localToken(env: NodeJS.ProcessEnv): string | undefined {
  try {
    return readFileSync(join(resolve(env.WOBBET_HOME ?? ".wobbet"), "token"), "utf8").trim()
  } catch {
    return undefined
  }
}
