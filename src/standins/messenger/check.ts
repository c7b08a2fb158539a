import { graphRefusal } from "../shared/hub.ts"
import type { Body, Shown, Stage } from "../shared/standin.ts"
import type { World } from "./world.ts"

type Bad = (what: string) => Error

/** Whether the provider would take a message: every field, every limit. Gives the recipient; throws its refusal. */
export function checkMessage(body: Body, stage: Stage, world: World): string {
  const bad: Bad = (what) => graphRefusal(400, 100, `Invalid parameter: ${what}`)
  const to = (body.recipient as Body | undefined)?.id
  if (typeof to !== "string") throw bad("recipient.id")
  if (!stage.people.has(to)) throw graphRefusal(400, 100, "No matching user found", { error_subcode: 2018001 })
  if (body.sender_action !== undefined) {
    if (!["typing_on", "typing_off", "mark_seen"].includes(String(body.sender_action)) || body.message !== undefined)
      throw bad("sender_action")
    return to
  }
  for (const key of Object.keys(body))
    if (!["recipient", "messaging_type", "tag", "message"].includes(key)) throw bad(`Unexpected key "${key}"`)
  if (!["RESPONSE", "UPDATE", "MESSAGE_TAG"].includes(String(body.messaging_type))) throw bad("messaging_type")
  if (Date.now() - (world.heard.get(to) ?? 0) > 24 * 3_600_000 && body.messaging_type !== "MESSAGE_TAG")
    throw graphRefusal(400, 10, "This message is sent outside of allowed window", { error_subcode: 2018278 })
  const message = body.message as Body | undefined
  if (!message) throw bad("message is required")
  if (message.metadata !== undefined && (typeof message.metadata !== "string" || message.metadata.length > 1000))
    throw bad("metadata is over 1000")
  const attachment = message.attachment as Body | undefined
  if ((message.text === undefined) === (attachment === undefined)) throw bad("a text or an attachment")
  if (message.text !== undefined) words(message.text, 2000, "message.text", bad)
  if (attachment) checkAttachment(attachment, bad, world)
  if (message.quick_replies !== undefined) checkQuickReplies(message.quick_replies as Body[], bad)
  return to
}

function words(value: unknown, most: number, name: string, bad: Bad): void {
  if (typeof value !== "string" || value.trim() === "") throw bad(`${name} is required`)
  if (value.length > most) throw bad(`Length of param ${name} must be less than or equal to ${most}`)
}

function checkQuickReplies(replies: Body[], bad: Bad): void {
  if (replies.length < 1 || replies.length > 13) throw bad("1 to 13 quick replies")
  for (const reply of replies) {
    if (reply.content_type !== "text") throw bad("quick_replies.content_type")
    words(reply.title, 20, "quick_replies.title", bad)
    words(reply.payload, 1000, "quick_replies.payload", bad)
  }
}

function checkAttachment(attachment: Body, bad: Bad, world: World): void {
  const payload = (attachment.payload ?? {}) as Body
  if (attachment.type === "template") return checkTemplate(payload, bad)
  if (!["image", "audio", "video", "file"].includes(String(attachment.type))) throw bad("attachment.type")
  if ((payload.url === undefined) === (payload.attachment_id === undefined)) throw bad("a url or an attachment_id")
  if (payload.url !== undefined && !/^https?:\/\/\S+$/.test(String(payload.url))) throw bad("payload.url")
  if (payload.attachment_id !== undefined && !world.attachments.has(String(payload.attachment_id)))
    throw bad("no such attachment")
}

function checkTemplate(payload: Body, bad: Bad): void {
  if (payload.template_type === "button") {
    words(payload.text, 640, "text", bad)
    return checkButtons(payload.buttons as Body[] | undefined, 1, bad)
  }
  if (payload.template_type !== "generic") throw bad("template_type")
  const elements = (payload.elements as Body[] | undefined) ?? []
  if (elements.length < 1 || elements.length > 10) throw bad("1 to 10 elements")
  for (const element of elements) {
    words(element.title, 80, "title", bad)
    if (element.subtitle !== undefined) words(element.subtitle, 80, "subtitle", bad)
    if (element.subtitle === undefined && element.image_url === undefined && element.buttons === undefined)
      throw bad("an element needs something beside its title")
    if (element.image_url !== undefined && !/^https?:\/\/\S+$/.test(String(element.image_url))) throw bad("image_url")
    if (element.buttons !== undefined) checkButtons(element.buttons as Body[], 1, bad)
  }
}

function checkButtons(buttons: Body[] | undefined, least: number, bad: Bad): void {
  if (!buttons || buttons.length < least || buttons.length > 3) throw bad("1 to 3 buttons")
  for (const button of buttons) {
    words(button.title, 20, "button title", bad)
    if (button.type === "postback") words(button.payload, 1000, "button payload", bad)
    else if (button.type !== "web_url" || !/^https?:\/\/\S+$/.test(String(button.url))) throw bad("button url")
  }
}

/** What the person's phone shows of a message. Ids tell quick replies from buttons. */
export function shownOf(message: Body): Pick<Shown, "text"> & Partial<Shown> {
  const quick = (message.quick_replies as { title: string; payload: string }[] | undefined) ?? []
  const buttons = quick.map((one) => ({ id: `quick:${one.payload}`, label: one.title }))
  if (typeof message.text === "string") return { text: message.text, ...(buttons.length > 0 ? { buttons } : {}) }
  const attachment = message.attachment as Body
  const payload = attachment.payload as Body
  if (attachment.type !== "template") {
    const url = typeof payload.url === "string" ? payload.url : undefined
    return { text: `(${String(attachment.type)})`, ...(attachment.type === "image" && url ? { picture: url } : {}) }
  }
  const pressed = (list: unknown) =>
    ((list as { type: string; title: string; payload?: string; url?: string }[] | undefined) ?? [])
      .filter((one) => one.type === "postback")
      .map((one) => ({ id: `post:${one.payload}`, label: one.title }))
  const links = (list: unknown) =>
    ((list as { title: string; url?: string }[] | undefined) ?? [])
      .filter((one) => one.url)
      .map((one) => `\n[${one.title}: ${one.url}]`)
      .join("")
  if (payload.template_type === "button")
    return { text: `${String(payload.text)}${links(payload.buttons)}`, buttons: pressed(payload.buttons) }
  const elements = payload.elements as Body[]
  const picture = elements.map((element) => element.image_url).find(Boolean) as string | undefined
  return {
    text: elements
      .map((element) => [element.title, element.subtitle].filter(Boolean).join("\n") + links(element.buttons))
      .join("\n— \n"),
    buttons: elements.flatMap((element) => pressed(element.buttons)),
    ...(picture ? { picture } : {}),
  }
}
