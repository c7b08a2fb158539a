import { AsyncLocalStorage } from "node:async_hooks"
import { pathToFileURL } from "node:url"
import { format } from "node:util"
import type { Handler, Outcome } from "../../sdk/index.ts"
import type { HandlerError } from "./handler.ts"
import type { FromHost, ToHost } from "./hostProtocol.ts"
import { folderWord } from "./hostProtocol.ts"

/**
 * A handler host: a process of its own that runs a bot's code handlers, many at once as long as they await. It knows
 * nothing of the service and inherits none of its environment.
 */
const logs = new AsyncLocalStorage<string[]>()
let handlers: { [name: string]: { default?: Handler } } = {}

for (const level of ["log", "info", "warn", "error", "debug"] as const) {
  console[level] = (...parts: unknown[]) => {
    const lines = logs.getStore()
    if (lines && lines.length < 100) lines.push(format(...parts).slice(0, 1000))
  }
}

process.on("message", (orders: ToHost[]) => {
  for (const order of orders) {
    if (order.say === "ping") tell({ say: "pong", at: order.at, memory: process.memoryUsage.rss() })
    else if (order.say === "load") void load(order.file)
    else void run(order)
  }
})
// A handler whose loop never ends does not hear that; the service's guardian sees to those.
process.on("disconnect", () => process.exit(0))
// A promise nobody waits for is a fault of the handler's that threw it, not a reason to end the others.
process.on("unhandledRejection", () => undefined)

async function load(file: string): Promise<void> {
  try {
    const bundle = (await import(pathToFileURL(file).href)) as { handlers: typeof handlers }
    handlers = bundle.handlers
    for (const [name, module] of Object.entries(handlers)) {
      if (typeof module.default !== "function")
        throw new TypeError(`handlers/${name}: the default export is not a function`)
    }
    tell({ say: "loaded", handlers: Object.keys(handlers) })
  } catch (error) {
    tell({ say: "broken", error: plain(error) })
  }
}

async function run(order: ToHost & { say: "run" }): Promise<void> {
  const log: string[] = []
  const { turn } = order
  try {
    const handler = handlers[order.handler]?.default
    if (!handler) throw new Error(`There is no handler "${order.handler}" in this release.`)
    const outcome = await logs.run(log, async () =>
      handler({ ...turn, messages: turn.messages ?? [turn.message], now: new Date(turn.now) }),
    )
    tell({ say: "done", id: order.id, outcome: normal(outcome), log })
  } catch (error) {
    tell({ say: "threw", id: order.id, error: plain(error), log })
  }
}

function normal(outcome: Outcome | string | void): Outcome {
  if (outcome === undefined || outcome === null) return {}
  if (typeof outcome === "string") return { replies: [{ part: "text", text: outcome }] }
  if (typeof outcome !== "object")
    throw new TypeError(`A handler answers with { replies, state }, not with ${typeof outcome}.`)
  const { replies, state } = outcome
  const list = replies === undefined || replies === null ? [] : Array.isArray(replies) ? replies : [replies]
  return {
    replies: list.map((reply) => (typeof reply === "string" ? { part: "text" as const, text: reply } : reply)),
    ...(state !== undefined ? { state } : {}),
  }
}

function plain(error: unknown): HandlerError {
  if (!(error instanceof Error)) return { name: "Error", message: format(error) }
  return { name: error.name, message: error.message, ...(error.stack ? { stack: ownLines(error.stack) } : {}) }
}

/** A stack as the bot's author reads it: files as they are named in the folder, without what lies underneath. */
function ownLines(stack: string): string {
  const lines = stack
    .split("\n")
    .filter((line) => !/\(?node:|[/\\]host-[0-9a-f]{12}\.mjs|src[/\\]engine[/\\]handlers[/\\]host/.test(line))
  return lines
    .slice(0, 12)
    .join("\n")
    .replaceAll(new RegExp(`${folderWord}/+`, "g"), "")
}

const said: FromHost[] = []

/** What is said within one turn of the event loop goes as one message. */
function tell(words: FromHost): void {
  if (said.push(words) === 1) setImmediate(() => process.send?.(said.splice(0)))
}
