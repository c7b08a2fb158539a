import type { InboundCall } from "../channels/call.ts"
import { storableJson } from "../message/graphemes.ts"
import { readStorableJson } from "../message/json.ts"
import type { Source } from "./fields.ts"
import { fieldsIn, formFields } from "./fields.ts"
import type { BodyForm } from "./profile.ts"
import { readXml } from "./xml.ts"

/** A call's content in the form its gateway uses; or why it cannot be read. */
export function contentOf(call: InboundCall, body: BodyForm): Source | { unreadable: string } {
  const type = call.headers["content-type"] ?? ""
  // A gateway may fetch an address with everything in its query.
  if (call.body.length === 0) {
    const query = call.address.split("?")[1]
    if (query === undefined) return { unreadable: "the body is empty" }
    const fields = storableJson(formFields(new URLSearchParams(query)))
    return body === "form" ? { form: fields } : { json: fields }
  }
  if (body === "xml") {
    try {
      return { json: storableJson(readXml(Buffer.from(call.body).toString("utf8"))) }
    } catch (error) {
      return { unreadable: `the body is not XML: ${(error as Error).message.slice(0, 200)}` }
    }
  }
  if (body === "form" && !type.includes("json")) {
    const form = formFields(fieldsIn(call))
    // Decoding a form yields whole characters; only a NUL, escaped or not, may not be stored.
    return { form: mayHoldNul(call.body) ? storableJson(form) : form }
  }
  try {
    const json = readStorableJson(call.body)
    if (body === "json") return { json }
    const fields = Object.entries(json as object).filter(([, value]) => ["string", "number"].includes(typeof value))
    return { form: Object.fromEntries(fields.map(([name, value]) => [name, String(value)])) }
  } catch (error) {
    return { unreadable: `the body is not JSON: ${(error as Error).message.slice(0, 200)}` }
  }
}

function mayHoldNul(body: Uint8Array): boolean {
  const bytes = Buffer.from(body.buffer, body.byteOffset, body.byteLength)
  return bytes.includes(0) || bytes.includes("%00")
}
