import type { Command } from "commander"
import { ApiError, Client, NoService } from "../client/client.ts"
import type { CarriedAnswer, CarriedCall } from "../client/types.ts"
import { CommandFault, connect } from "./context.ts"
import { clock, colors, print } from "./output.ts"

interface Options {
  from: string
  channel: string
  to?: string
  token?: string
  json?: boolean
}

/** `wobbet bring`: the calls of a service that can be reached, for the local one that cannot. */
export function bringCommand(program: Command): void {
  program
    .command("bring")
    .description("fetch what a reachable service's inlet receives, and give it to this one as if it had come here")
    .requiredOption("--from <address>", "the reachable service, such as https://bot.example")
    .requiredOption("--channel <key>", "the channel there")
    .option("--to <key>", "the channel here, when it has another key")
    .option("--token <token>", "for the reachable service; else from WOBBET_BRING_TOKEN")
    .option("--json", "for programs: one call a line")
    .addHelpText(
      "after",
      `
The token is made on the reachable service: wobbet token make laptop --channel <key>
Both services hold the same secrets of the channel; here, set its publicUrl to the reachable service's address.`,
    )
    .action(bring)
}

async function bring(options: Options): Promise<void> {
  const token = options.token ?? process.env.WOBBET_BRING_TOKEN
  if (token === undefined)
    throw new CommandFault(
      "No token for the service to fetch from.",
      `Make one there with "wobbet token make laptop --channel ${options.channel}", and give it as --token or WOBBET_BRING_TOKEN.`,
    )
  const far = new Client(options.from.replace(/\/+$/, ""), token)
  const near = connect()
  const here = options.to ?? options.channel
  await prepare(near, here, options)
  const state = { stopping: false, calls: 0, broken: false, busy: false, unsure: new Set<string>() }
  const finish = async () => {
    // What was given out and not taken may be handled there; what may have been taken must not.
    const { handled } = await far.stopFetching(options.channel, state.unsure.size === 0).catch(() => ({ handled: 0 }))
    if (options.json) return
    const rest = handled > 0 ? ` ${handled} that came since are handled there.` : ""
    print(`Ended: ${state.calls} ${state.calls === 1 ? "call was" : "calls were"} brought.${rest}`)
  }
  const stop = () => {
    if (state.stopping) process.exit(130)
    state.stopping = true
    // While nothing is under way, the asking is simply broken off.
    if (!state.busy) void finish().finally(() => process.exit(0))
    else if (!options.json) print(colors.dim("Stopping after the call under way …"))
  }
  process.on("SIGINT", stop).on("SIGTERM", stop)
  if (!options.json)
    print(`Fetching the calls of ${colors.bold(options.channel)} from ${options.from}. Ctrl-C ends it.`)
  for (let first = true; !state.stopping; first = false) {
    try {
      const { items } = await far.fetchCalls(options.channel, first ? 0 : 15)
      if (state.broken && !options.json) print(colors.green("● The connection is back; nothing was lost meanwhile."))
      state.broken = false
      for (const call of items) {
        if (state.stopping) break
        state.busy = true
        await carry(call, far, near, here, options, state).finally(() => (state.busy = false))
      }
    } catch (error) {
      if (error instanceof ApiError && error.status < 500) throw error
      if (!state.broken && !options.json)
        print(colors.yellow(`○ ${broken(error)} Trying again; the calls are kept there.`))
      state.broken = true
      // Meanwhile the far side is not asked, so that it keeps its callers waiting for nobody.
      do await new Promise((resolve) => setTimeout(resolve, 700))
      while (!state.stopping && !(await isUp(near)))
    }
  }
  await finish()
}

async function isUp(service: Client): Promise<boolean> {
  return service.session().then(
    () => true,
    () => false,
  )
}

/** Both sides agree about the address, or signatures over it would not match. */
async function prepare(near: Client, here: string, options: Options): Promise<void> {
  const channel = await near.channel(here)
  const theirs = `${options.from.replace(/\/+$/, "")}/in/${options.channel}`
  if (channel.inlet !== theirs && !options.json)
    print(
      colors.dim(
        `This service takes ${here} to be called at ${channel.inlet}. If its provider signs addresses, set publicUrl here to what the reachable one has.`,
      ),
    )
}

async function carry(
  call: CarriedCall,
  far: Client,
  near: Client,
  here: string,
  options: Options,
  state: { calls: number; unsure: Set<string> },
): Promise<void> {
  let answer: CarriedAnswer
  try {
    answer = await near.giveCall(here, call)
  } catch (error) {
    if (error instanceof ApiError && error.status < 500)
      throw new CommandFault(`The local service does not take the call: ${error.message}`, error.remedy)
    throw error
  }
  // Not taken (the local database is away): it stays there, and comes again.
  if (answer.status === 503)
    throw new CommandFault("The local service cannot keep calls just now.", "Is its database up?")
  state.unsure.add(call.id)
  await far.answerCall(options.channel, { id: call.id, ...answer })
  state.unsure.delete(call.id)
  state.calls++
  if (options.json) print(JSON.stringify({ id: call.id, receivedAt: call.receivedAt, status: answer.status }))
  else {
    const tint = answer.status < 300 ? colors.green : colors.red
    print(
      `${colors.dim(clock(call.receivedAt))} ${tint("●")} ${call.method} ${call.address.split("?")[0]}  answered ${answer.status}  ${colors.dim(call.id)}`,
    )
  }
}

function broken(error: unknown): string {
  if (error instanceof NoService) return `${error.message.replace(/\.$/, "")} just now.`
  return `The connection broke: ${(error as Error).message.split("\n")[0]}.`
}
