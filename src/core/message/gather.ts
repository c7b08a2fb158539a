import type { Message } from "./message.ts"

/** Commands, choices and forms stand for themselves; the rest of what a person sends in one go belongs together. */
export function standsAlone(message: Message): boolean {
  return !["text", "media", "location", "contact"].includes(message.event)
}

/** Several messages of one person as the one that a route and a handler see. */
export function together(messages: Message[]): Message {
  const last = messages.at(-1)!
  if (messages.length === 1) return last
  const texts = messages.map((message) => message.text).filter((text) => text !== undefined)
  const media = messages.flatMap((message) => message.media ?? [])
  const contacts = messages.flatMap((message) => message.contacts ?? (message.contact ? [message.contact] : []))
  const found = <K extends "location" | "contact" | "referral" | "fields">(key: K) =>
    messages.findLast((message) => message[key] !== undefined)?.[key]
  const { marks: _marks, text: _text, ...rest } = last
  return {
    ...rest,
    event: media.length > 0 ? "media" : texts.length > 0 ? "text" : last.event,
    ...(texts.length > 0 ? { text: texts.join("\n") } : {}),
    ...(media.length > 0 ? { media } : {}),
    ...(found("location") ? { location: found("location")! } : {}),
    ...(found("contact") ? { contact: found("contact")! } : {}),
    ...(contacts.length > 1 ? { contacts } : {}),
    ...(found("referral") ? { referral: found("referral")! } : {}),
    ...(found("fields") ? { fields: found("fields")! } : {}),
    ...(messages.some((message) => message.mentionsBot) ? { mentionsBot: true } : {}),
  }
}
