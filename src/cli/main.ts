import { Command, CommanderError } from "commander"
import { ApiError, NoService } from "../client/client.ts"
import { botCommands } from "./bot.ts"
import { bringCommand } from "./bring.ts"
import { channelCommands } from "./channel.ts"
import { CommandFault } from "./context.ts"
import { conversationCommands } from "./conversation.ts"
import { demoCommands } from "./demo.ts"
import { messageCommands } from "./message.ts"
import { colors } from "./output.ts"
import { parkedCommands } from "./parked.ts"
import { passageCommand } from "./passage.ts"
import { profileCommands } from "./profile.ts"
import { serveCommand } from "./serve.ts"
import { talkCommands } from "./talk.ts"
import { tokenCommands } from "./token.ts"

const program = new Command("wobbet")
  .description(
    "Receives what people write to bots, answers each message once and in order, and shows what became of it.",
  )
  .version(VERSION)
  .showHelpAfterError("(--help shows how it is used)")
  .exitOverride()
  .configureHelp({ sortSubcommands: false })

serveCommand(program)
demoCommands(program)
channelCommands(program)
talkCommands(program)
messageCommands(program)
passageCommand(program)
conversationCommands(program)
botCommands(program)
parkedCommands(program)
profileCommands(program)
bringCommand(program)
tokenCommands(program)

// A reader that has seen enough, such as head, is no fault.
process.stdout.on("error", (error: { code?: string }) => {
  if (error.code === "EPIPE") process.exit(0)
  throw error
})

// Exit codes: 0 done, 1 not done, 2 wrong use.
try {
  await program.parseAsync()
} catch (error) {
  process.exitCode = report(error)
}

function report(error: unknown): number {
  const say = (text: string, remedy: string) =>
    process.stderr.write(`${colors.red("✕")} ${text}${remedy ? `\n  ${remedy}` : ""}\n`)
  if (error instanceof CommanderError) return error.exitCode === 0 ? 0 : 2
  if (error instanceof NoService) {
    say(error.message, 'Start one with "npm start" or "wobbet serve", or name another with WOBBET_URL.')
    return 1
  }
  if (error instanceof ApiError) {
    const local =
      error.status === 401
        ? "The command line reads the file token in WOBBET_HOME (.wobbet here), or WOBBET_TOKEN."
        : error.remedy
    say(error.message, local)
    return error.status === 400 ? 2 : 1
  }
  if (error instanceof CommandFault) {
    say(error.message, error.remedy)
    return 1
  }
  say(`Something went wrong inside the command: ${(error as Error).stack ?? String(error)}`, "")
  return 1
}
