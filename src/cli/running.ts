import { existsSync } from "node:fs"
import { resolve } from "node:path"
import type { RunningService } from "../service/service.ts"
import { startService } from "../service/service.ts"
import { readServiceSettings, SettingFault } from "../service/settings.ts"
import { ServerTrouble } from "../store/embedded.ts"
import { builtFiles } from "./built.ts"
import { CommandFault } from "./context.ts"
import { endInOrder } from "./ending.ts"
import { makeLog } from "./logging.ts"
import { colors, print } from "./output.ts"

/** `wobbet serve`: runs until it is told to stop. */
export async function serve(options: { bot?: string }): Promise<void> {
  const botFolder = options.bot ? resolve(options.bot) : undefined
  if (botFolder && !existsSync(botFolder))
    throw new CommandFault(`There is no folder ${botFolder}.`, "Name the folder that holds bot.yaml.")
  const starting = begin(botFolder ? { botFolder } : {})
  // From the beginning: what is started must be stopped, also when the word to stop comes early.
  endInOrder(() => starting.then((service) => service.stop()))
  const service = await starting
  print(
    `${colors.green("●")} Wobbet is up at ${colors.bold(service.address)}`,
    `  The console signs in with the token in ${resolve(process.env.WOBBET_HOME ?? ".wobbet")}/token.`,
  )
}

/** Starts the service, and says in a sentence when it cannot be. */
export async function begin(options: { botFolder?: string; databaseName?: string }): Promise<RunningService> {
  const log = makeLog(process.env)
  // Node opens its debugger to everybody on this machine when this signal comes, and a handler may send signals.
  process.on("SIGUSR1", () => log.warn("SIGUSR1 is ignored: the debugger is not opened"))
  try {
    return await startService(readServiceSettings(process.env), { files: builtFiles, log, ...options })
  } catch (error) {
    if (error instanceof SettingFault || error instanceof ServerTrouble) throw new CommandFault(error.message)
    throw error
  }
}
