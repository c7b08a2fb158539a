import { Command, CommanderError } from "commander"
import { ApiError, NoService, NotWobbet } from "../client/client.ts"
import { shown, shownJson } from "../client/shown.ts"
import { backupCommands } from "./backup.ts"
import { botCommands } from "./bot.ts"
import { bringCommand } from "./bring.ts"
import { callCommand } from "./call.ts"
import { channelCommands } from "./channel.ts"
import { CommandFault, forPrograms } from "./context.ts"
import { contactCommands } from "./contact.ts"
import { conversationCommands } from "./conversation.ts"
import { demoCommands } from "./demo.ts"
import { journalCommands } from "./journal.ts"
import { messageCommands } from "./message.ts"
import { colors } from "./output.ts"
import { parkedCommands } from "./parked.ts"
import { passageCommand } from "./passage.ts"
import { profileCommands } from "./profile.ts"
import { modelCommands } from "./model.ts"
import { noticeCommands } from "./notice.ts"
import { queueCommands } from "./queue.ts"
import { sayCommand } from "./say.ts"
import { serveCommand } from "./serve.ts"
import { talkCommands } from "./talk.ts"
import { secretCommands } from "./secret.ts"
import { tokenCommands } from "./token.ts"

/**
 * Carries out one command. Sets the process's exit code: 0 done, 1 not done, 2 wrong use.
 *
 * @returns whether it came to its end; what it had begun may still be under way where it did not
 */
export async function carryOut(argv: string[]): Promise<boolean> {
  try {
    await commands().parseAsync(argv)
    return true
  } catch (error) {
    process.exitCode = report(error)
    return false
  }
}

/** Loads what commands load only when they need it, such as the service: the build lets V8 compile it beforehand. */
export async function loadAll(): Promise<void> {
  await Promise.all([import("./running.ts"), import("../store/backup.ts"), import("../service/botCheck.ts")])
}

function commands(): Command {
  const program = new Command("wobbet")
    .description(
      "Receives what people write to bots, answers each message once and in order, and shows what became of it.",
    )
    .version(VERSION)
    .showHelpAfterError("(--help shows how it is used)")
    .exitOverride()
    .configureHelp({ sortSubcommands: false })
    .configureOutput({
      writeOut: (text) => void process.stdout.write(text),
      writeErr: (text) => forPrograms() || void process.stderr.write(text),
      getOutHelpWidth: () => (process.stdout.isTTY ? process.stdout.columns : 80),
      getErrHelpWidth: () => (process.stderr.isTTY ? process.stderr.columns : 80),
    })

  serveCommand(program)
  demoCommands(program)
  channelCommands(program)
  talkCommands(program)
  sayCommand(program)
  messageCommands(program)
  passageCommand(program)
  contactCommands(program)
  conversationCommands(program)
  botCommands(program)
  journalCommands(program)
  parkedCommands(program)
  profileCommands(program)
  callCommand(program)
  bringCommand(program)
  queueCommands(program)
  modelCommands(program)
  noticeCommands(program)
  secretCommands(program)
  tokenCommands(program)
  backupCommands(program)
  return program
}

const titles: { [code: string]: string } = {
  "wrong-use": "Wrong use",
  "no-service": "No service answers",
  "not-wobbet": "Not Wobbet",
  refused: "The service refused",
  fault: "An internal error",
}

/** Says what went wrong, to people or, with --json, as problem details (RFC 9457); gives the exit code. */
function report(error: unknown): number {
  if (error instanceof CommanderError) {
    if (error.exitCode === 0) return 0
    const { message } = error
    if (forPrograms()) tell("wrong-use", message.replace(/^error: /, ""), "--help shows how it is used.")
    return 2
  }
  if (error instanceof NoService) {
    tell("no-service", error.message, 'Start one with "npm start" or "wobbet serve", or name another with WOBBET_URL.')
    return 1
  }
  if (error instanceof NotWobbet) {
    tell("not-wobbet", error.message, "Is WOBBET_URL (or WOBBET_PORT) the address of the service?")
    return 1
  }
  if (error instanceof ApiError) {
    const remedy =
      error.status === 401
        ? "The command line reads the file token in WOBBET_HOME (.wobbet here), or WOBBET_TOKEN."
        : error.remedy
    tell("refused", error.message, remedy, error.problem)
    return error.status === 400 ? 2 : 1
  }
  if (error instanceof CommandFault) {
    tell("not-done", error.message, error.remedy)
    return 1
  }
  tell("fault", `Something went wrong inside the command: ${(error as Error).stack ?? String(error)}`, "")
  return 1
}

/** @param problem what the service said, where it said it */
function tell(code: string, text: string, remedy: string, problem?: object): void {
  if (forPrograms()) {
    const own = { type: `https://wobbet.invalid/problems/${code}`, title: titles[code] ?? "Not done" }
    process.stderr.write(`${shownJson({ ...own, detail: text, ...problem, remedy }, 2)}\n`)
  } else process.stderr.write(`${colors.red("✕")} ${shown(text)}${remedy ? `\n  ${shown(remedy)}` : ""}\n`)
}
