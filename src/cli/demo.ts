import type { Command } from "commander"
import type { StandinOptions } from "./standinPorts.ts"
import { officePort, standinPort } from "./standinPorts.ts"

/** `wobbet demo` and `wobbet standins`. What they run is read only when they do, so that other commands start at once. */
export function demoCommands(program: Command): void {
  program
    .command("demo")
    .description("the ferry: database, stand-ins, harbour office and service, with a morning's traffic")
    .option("--quiet-quay", "play the morning, then nothing more")
    .action(async (options: { quietQuay?: boolean }) =>
      (await import("./playing.ts")).runDemo(options.quietQuay === true),
    )

  program
    .command("standins")
    .description("the simulated providers alone, to try channels and bots against")
    .option("--port <n>", "Telegram's port", String(standinPort))
    .option("--office-port <n>", "the harbour office's port", String(officePort))
    .option("--others", "WhatsApp, Messenger, Slack and an SMS gateway too")
    .option("--service <address>", "the service that Slack and the gateway are to call", "http://127.0.0.1:4180")
    .action(async (options: StandinOptions) => (await import("./standins.ts")).runStandins(options))
}
