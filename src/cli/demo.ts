import type { Command } from "commander"
import { InvalidArgumentError } from "commander"
import type { StandinOptions } from "./standinPorts.ts"
import { demoPorts, usualBase } from "./standinPorts.ts"

/** `wobbet demo` and `wobbet standins`. What they run is read only when they do, so that other commands start at once. */
export function demoCommands(program: Command): void {
  program
    .command("demo")
    .description("the ferry: database, stand-ins, harbour office and service, with a morning's traffic")
    .option("--quiet-quay", "play the morning, then nothing more")
    .option("--port-base <n>", "the service's port; the stand-ins' follow it", portBase, usualBase)
    .action(async (options: { quietQuay?: boolean; portBase: number }) =>
      (await import("./playing.ts")).runDemo({ quiet: options.quietQuay === true, base: options.portBase }),
    )

  program
    .command("standins")
    .description("the simulated providers alone, to try channels and bots against")
    .option("--port <n>", "Telegram's port", String(demoPorts().telegram))
    .option("--office-port <n>", "the harbour office's port", String(demoPorts().office))
    .option("--others", "WhatsApp, Messenger, Slack and an SMS gateway too")
    .option("--service <address>", "the service that Slack and the gateway are to call", "http://127.0.0.1:4180")
    .action(async (options: StandinOptions) => (await import("./standins.ts")).runStandins(options))
}

function portBase(given: string): number {
  const base = Number(given)
  if (!Number.isInteger(base) || base < 1024 || base > 65_000)
    throw new InvalidArgumentError("It is a port from 1024 to 65000.")
  return base
}
