import { isObject, textAt } from "../../message/json.ts"
import type { Parsed } from "../kind.ts"
import type { InboundCall, InletAnswer } from "../call.ts"
import { readBody } from "./body.ts"

/** Events want an empty 2xx within three seconds; what stands in the answer to a slash command is shown to the person. */
export function acknowledge(call: InboundCall, _parsed: Parsed): InletAnswer {
  const body = readBody(call)
  if (!("content" in body) || !isObject(body.content)) return { status: 200 }
  const challenge = textAt(body.content, "challenge")
  if (body.content.type === "url_verification" && challenge !== undefined)
    return { status: 200, headers: { "content-type": "text/plain; charset=utf-8" }, body: challenge }
  if (body.content.type === "block_suggestion") return json({ options: [] })
  return { status: 200 }
}

/** Only a slash command's answer is seen. */
export function acknowledgeLate(call: InboundCall, parsed: Parsed): InletAnswer {
  return "command" in readBody(call)
    ? json({ response_type: "ephemeral", text: "Got it. The answer will take a little longer than usual." })
    : acknowledge(call, parsed)
}

/** Slash commands never come again: the person is told to give theirs once more. */
export function refuseSeen(call: InboundCall): InletAnswer | undefined {
  return "command" in readBody(call)
    ? json({ response_type: "ephemeral", text: "Sorry, this could not be taken just now. Please try it again." })
    : undefined
}

function json(value: object): InletAnswer {
  return { status: 200, headers: { "content-type": "application/json" }, body: JSON.stringify(value) }
}
