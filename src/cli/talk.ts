import type { Command } from "commander"
import type { MessageView } from "../client/types.ts"
import { connect } from "./context.ts"
import { asJson, because, colors, inLine, print, rail, when, messageWord, whoOf } from "./output.ts"

/** `wobbet send` and `wobbet tail`. */
export function talkCommands(program: Command): void {
  program
    .command("send")
    .description("say something in a conversation")
    .argument("<to>", "a conversation's id, or the provider's id of a person, group or broadcast channel")
    .argument("<text>", "in light markup")
    .option("--channel <key>", "the channel, where a provider's id is not known yet or known on several")
    .option("--key <key>", "an idempotency key: the same key sends once")
    .option("--json", "for programs")
    .action(async (to: string, text: string, options: { channel?: string; key?: string; json?: boolean }) => {
      const sent = await connect().send(
        { to, text, ...(options.channel ? { channel: options.channel } : {}) },
        options.key,
      )
      if (asJson(options, sent)) return
      print(
        `In line: ${sent.messages.join(", ")} in ${sent.conversation}.`,
        colors.dim(`How far it got: wobbet message show ${sent.messages[0]}`),
      )
    })

  program
    .command("tail")
    .description("what happens, as it happens; Ctrl-C ends it")
    .option("--channel <key>", "of one channel")
    .option("--json", "for programs: one message a line")
    .action(async (options: { channel?: string; json?: boolean }) => {
      const client = connect()
      const stop = new AbortController()
      process.once("SIGINT", () => stop.abort())
      await client.session()
      if (!options.json) print(colors.dim("Waiting for messages. Ctrl-C ends."))
      const shown = new Map<string, string>()
      try {
        for await (const event of client.live(stop.signal)) {
          if (event.what === "parked" || event.message === null) continue
          const message = await client.message(event.message)
          if (options.channel && message.channel !== options.channel) continue
          const look = `${messageWord(message)} ${because(message)}`
          if (shown.get(message.id) === look) continue
          shown.set(message.id, look)
          if (shown.size > 1000) shown.delete(shown.keys().next().value!)
          if (options.json) print(JSON.stringify(message))
          else print(tailLine(message))
        }
      } catch (error) {
        if (!stop.signal.aborted) throw error
      }
    })
}

function tailLine(message: MessageView): string {
  const arrow = message.direction === "in" ? "→" : "←"
  const who = inLine(whoOf(message), 18).padEnd(18)
  return `${colors.dim(when(message.receivedAt))} ${arrow} ${rail(message.stops ?? [])}  ${who}  ${inLine(message.text, 60)}  ${messageWord(message)}${because(message) ? colors.dim(` ${inLine(because(message), 60)}`) : ""}`
}
