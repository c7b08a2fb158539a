import type { Parsed } from "../kind.ts"
import type { InboundCall, InletAnswer } from "../call.ts"

export function acknowledge(_call: InboundCall, _parsed: Parsed): InletAnswer {
  return { status: 200 }
}

/** A press may be answered in the answer to its call ("making requests when getting updates"): a line over the chat. */
export function acknowledgeLate(_call: InboundCall, parsed: Parsed): InletAnswer {
  const press = parsed.messages[0]?.courtesies?.find((courtesy) => courtesy.name === "answerCallbackQuery")
  if (!press?.body || !("json" in press.body)) return { status: 200 }
  const body = {
    method: "answerCallbackQuery",
    ...(press.body.json as object),
    text: "Got it. The answer will take a little longer than usual.",
  }
  return { status: 200, headers: { "content-type": "application/json" }, body: JSON.stringify(body) }
}
