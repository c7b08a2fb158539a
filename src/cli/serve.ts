import type { Command } from "commander"

/** `wobbet serve`. The service is read only here, so that other commands start at once. */
export function serveCommand(program: Command): void {
  program
    .command("serve")
    .description("run the service; settings come from the environment (WOBBET_PORT, WOBBET_HOME, DATABASE_URL, …)")
    .option("--bot <folder>", "a bot folder to follow on save")
    .action(async (options: { bot?: string }) => (await import("./running.ts")).serve(options))
}
