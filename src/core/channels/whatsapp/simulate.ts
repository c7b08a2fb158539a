import type { Said, Simulation } from "../simulate.ts"
import { hubSigned, seconds, unsigned } from "../simulate.ts"

/** Calls as the Cloud API's documentation shows them. */
export const simulate: Simulation = {
  person: "447700900998",
  call(said, { settings }, now) {
    const from = said.from.address.replace(/^\+/, "")
    const message = { from, id: `wamid.simulated${said.number}`, timestamp: String(seconds(now)), ...contentOf(said) }
    const value = {
      messaging_product: "whatsapp",
      metadata: { display_phone_number: "447700900999", phone_number_id: String(settings.phoneNumberId ?? "") },
      contacts: [{ profile: { name: said.from.name }, wa_id: from }],
      messages: [message],
    }
    const entry = [{ id: String(settings.businessAccountId ?? "0"), changes: [{ field: "messages", value }] }]
    return unsigned("json", JSON.stringify({ object: "whatsapp_business_account", entry }))
  },
  sign: hubSigned,
}

function contentOf({ text, press, media }: Said): object {
  if (press !== undefined)
    return {
      context: { from: "447700900999", id: "wamid.simulated" },
      type: "interactive",
      interactive: { type: "button_reply", button_reply: { id: press, title: text ?? press } },
    }
  if (!media) return { type: "text", text: { body: text ?? "" } }
  const sort = media.mime.split("/")[0]!
  const type = ["image", "audio", "video"].includes(sort) ? sort : "document"
  const caption = text === undefined || type === "audio" ? {} : { caption: text }
  const filename = type === "document" ? { filename: media.name } : {}
  return { type, [type]: { id: media.ref, mime_type: media.mime, sha256: "simulated", ...filename, ...caption } }
}
