import type { OutgoingCall } from "../call.ts"
import type { Look, LookOption } from "../looks.ts"
import { contentOf, fieldsOf, listOf, plain, textOf } from "../looks.ts"

export function looks(call: OutgoingCall): Look {
  const content = contentOf(call)
  const message = fieldsOf(content.message)
  const quick = listOf(message.quick_replies).map((one): LookOption => ({
    label: textOf(one.title),
    as: "quick reply",
  }))
  if (content.sender_action) return { words: [], with: content.sender_action === "typing_on" ? "typing …" : "read ✓" }
  if (message.text !== undefined)
    return { words: plain(textOf(message.text)), ...(quick.length > 0 ? { options: quick } : {}) }
  const attachment = fieldsOf(message.attachment)
  const payload = fieldsOf(attachment.payload)
  if (attachment.type !== "template") {
    const picture = attachment.type === "image" ? textOf(payload.url) : ""
    return { words: [], ...(picture ? { picture } : { with: textOf(attachment.type) }) }
  }
  if (payload.template_type === "button")
    return { words: plain(textOf(payload.text)), options: pressed(payload.buttons) }
  const beside = listOf(payload.elements).map((one): Look => {
    const picture = textOf(one.image_url)
    const subtitle = textOf(one.subtitle)
    return {
      words: [{ text: textOf(one.title), as: "bold" }, ...plain(subtitle ? `\n${subtitle}` : "")],
      ...(picture ? { picture } : {}),
      options: pressed(one.buttons),
    }
  })
  return beside.length === 1 ? beside[0]! : { words: [], beside }
}

function pressed(buttons: unknown): LookOption[] {
  return listOf(buttons).map((one) => ({ label: textOf(one.title), as: one.type === "web_url" ? "link" : "button" }))
}
