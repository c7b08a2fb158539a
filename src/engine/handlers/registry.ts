import type { Bot, Route } from "../../core/routing/bot.ts"
import type { HandlerName } from "../../core/routing/handlerName.ts"
import { code } from "./code.ts"
import { endpoint } from "./endpoint.ts"
import type { HandlerKind } from "./handler.ts"
import { model } from "./model.ts"
import { relay } from "./relay.ts"
import { queue } from "./queue.ts"
import { text } from "./text.ts"

/** Every kind of handler. To add one is to add its file and its line here: docs/add-a-handler-kind.md. */
const kinds: HandlerKind[] = [code, text, endpoint, queue, model, relay]

/** What may be written in `bot.yaml` besides the name of a file, by kind. */
export const writtenHandlers = Object.fromEntries(
  kinds.filter((kind) => kind !== code).map((kind) => [kind.kind, kind.schema]),
)

/** The kind of a handler as a route names it, what is written for it, and how it is called on record. */
export function handlerOf(handler: HandlerName): {
  kind: HandlerKind
  written: { [name: string]: unknown }
  name: string
} {
  if (typeof handler === "string") return { kind: code, written: { code: handler }, name: handler }
  const kind = kinds.find((kind) => Object.hasOwn(handler, kind.kind))
  // A release of another version may name a kind this one does not have.
  if (!kind) throw new Error(`This version knows no handler of the kind ${Object.keys(handler).join(", ")}.`)
  return { kind, written: handler, name: kind.kind }
}

/** Names of the secrets a route takes: those it lists, and those its handler names. */
export function secretsOf(
  { secrets = [], handler }: Pick<Route, "secrets" | "handler">,
  bot: Pick<Bot, "models">,
): string[] {
  const { kind, written } = handlerOf(handler)
  return [...secrets, ...(kind.secretsOf?.(written, bot) ?? [])]
}
