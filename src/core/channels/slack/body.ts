import { storableJson } from "../../message/graphemes.ts"
import { readStorableJson } from "../../message/json.ts"
import type { InboundCall } from "../call.ts"

/** What a call holds: an event or an interaction as JSON, or a slash command's fields. */
export type Body = { content: unknown } | { command: { [field: string]: string } } | { unreadable: string }

export function readBody(call: InboundCall): Body {
  // Asked for by everybody who deals with a call; read once.
  let read = known.get(call)
  if (!read) known.set(call, (read = readAnew(call)))
  return read
}

const known = new WeakMap<InboundCall, Body>()

function readAnew(call: InboundCall): Body {
  const type = call.headers["content-type"]
  if (type?.includes("json")) return jsonOf(call.body)
  const text = Buffer.from(call.body).toString("utf8")
  const isForm = type?.includes("form-urlencoded") || /^(payload|token|command|team_id)=/.test(text)
  if (!isForm) return jsonOf(call.body)
  const form = new URLSearchParams(text)
  const payload = form.get("payload")
  if (payload !== null) return jsonOf(Buffer.from(payload))
  if (!form.has("command")) return { unreadable: "a form without payload and without command" }
  return { command: storableJson(Object.fromEntries(form)) }
}

function jsonOf(bytes: Uint8Array): Body {
  try {
    return { content: readStorableJson(bytes) }
  } catch (error) {
    return { unreadable: `the body is not JSON: ${(error as Error).message.slice(0, 200)}` }
  }
}
