import { setTimeout as pause } from "node:timers/promises"
import type { Command } from "commander"
import widthOf from "string-width"
import type { Client } from "../client/client.ts"
import { ApiError, NoService } from "../client/client.ts"
import type { LiveState } from "../client/follow.ts"
import { shown, shownJson } from "../client/shown.ts"
import type { MessageView } from "../client/types.ts"
import { connect } from "./context.ts"
import { collect, pairs } from "./values.ts"
import {
  asJson,
  because,
  colors,
  filled,
  inLine,
  messageWord,
  print,
  rail,
  roomBeside,
  when,
  whoOf,
  wideHelp,
} from "./output.ts"

/** `wobbet send` and `wobbet tail`. */
export function talkCommands(program: Command): void {
  program
    .command("send")
    .description("say something in a conversation")
    .argument("<to>", "a conversation's id, or the provider's id of a person, group or broadcast channel")
    .argument("<text>", "in light markup")
    .option("--channel <key>", "the channel, where a provider's id is not known yet or known on several")
    .option("--set <name=value>", "said along, by the names of the channel's extras, such as simCard=2", collect)
    .option("--key <key>", "an idempotency key: the same key sends once")
    .option("--json", "for programs")
    .action(
      async (to: string, text: string, options: { channel?: string; set?: string[]; key?: string; json?: boolean }) => {
        const sent = await connect().send(
          {
            to,
            text,
            ...(options.channel ? { channel: options.channel } : {}),
            ...(options.set ? { extra: pairs(options.set) } : {}),
          },
          options.key,
        )
        if (asJson(options, sent)) return
        print(
          `In line: ${sent.messages.join(", ")} in ${sent.conversation}.`,
          colors.dim(`How far it got: wobbet message show ${sent.messages[0]}`),
        )
      },
    )

  program
    .command("tail")
    .description("what happens, as it happens; Ctrl-C ends it")
    .option("--channel <key>", "of one channel")
    .option("--wide", wideHelp)
    .option("--json", "for programs: one message a line")
    .action(async (options: { channel?: string; json?: boolean }) => {
      const client = connect()
      const stop = new AbortController()
      process.once("SIGINT", () => stop.abort())
      await client.session()
      const told = new Map<string, string>()
      try {
        const state = breaks(options.json === true)
        for await (const event of client.live(stop.signal, state)) {
          if (event.what === "parked" || event.message === null) continue
          const message = await messageOf(client, event.message, stop.signal, state)
          if (!message) continue
          if (options.channel && message.channel !== options.channel) continue
          const look = `${messageWord(message)} ${because(message)}`
          if (told.get(message.id) === look) continue
          told.set(message.id, look)
          if (told.size > 1000) told.delete(told.keys().next().value!)
          if (options.json) print(shownJson(message))
          else print(tailLine(message))
        }
      } catch (error) {
        if (!stop.signal.aborted) throw error
      }
    })
}

/**
 * A message that was told of; asked for until somebody answers, since the stream tells of it once. Where no service
 * answers, that is told here: the stream itself is not read meanwhile.
 */
async function messageOf(
  client: Client,
  id: string,
  signal: AbortSignal,
  state: (state: LiveState) => void,
): Promise<MessageView | undefined> {
  while (!signal.aborted) {
    try {
      return await client.message(id)
    } catch (error) {
      const away = error instanceof NoService || (error instanceof ApiError && error.status >= 500)
      if (!away) throw error
      if (error instanceof NoService) state({ live: false, why: error, retryAt: Date.now() + 500 })
      await pause(500, undefined, { signal }).catch(() => undefined)
    }
  }
  return undefined
}

/** Says when the stream begins, and on stderr when it breaks and when it is back: what was said meanwhile is told then. */
function breaks(quiet: boolean): (state: LiveState) => void {
  let broken = false
  let begun = false
  const say = (text: string) => !quiet && process.stderr.write(`${text}\n`)
  return ({ live, ...state }) => {
    // Only now: what is said from here on is told.
    if (live && !begun && !quiet) print(colors.dim("Waiting for messages. Ctrl-C ends."))
    begun ||= live
    if (!live && !broken) say(colors.yellow(`○ The connection broke: ${whyOf(state as { why: Error })} Trying again …`))
    if (live && broken) say(colors.green("● The connection is back. What was said meanwhile follows."))
    broken = !live
  }
}

function whyOf({ why }: { why: Error }): string {
  return why instanceof NoService ? "no service answers." : shown(why.message)
}

function tailLine(message: MessageView): string {
  const arrow = message.direction === "in" ? "→" : "←"
  const start = `${colors.dim(when(message.receivedAt))} ${arrow} ${rail(message.stops ?? [])}  ${filled(whoOf(message), 14)}  `
  const word = messageWord(message)
  const room = roomBeside(widthOf(start) + widthOf(word) + 3, 110)
  const why = because(message)
  const said = inLine(message.text, why ? Math.max(12, Math.floor(room / 2)) : Math.min(60, room))
  const rest = room - widthOf(said)
  return `${start}${said}  ${word}${why && rest > 6 ? colors.dim(` ${inLine(why, rest)}`) : ""}`
}
