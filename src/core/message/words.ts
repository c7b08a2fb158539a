import type { Message } from "./message.ts"

/** What a person reading a list sees of a message. */
export function wordsOf(message: Message): string {
  if (message.text !== undefined) return message.text
  if (message.choice) return message.choice.label ?? message.choice.id
  if (message.media) return message.media.map((one) => `(${one.kind})`).join(" ")
  if (message.location) return `(location${message.location.name ? ` ${message.location.name}` : ""})`
  if (message.contact)
    return `(contact ${(message.contacts ?? [message.contact]).map((contact) => contact.name).join(", ")})`
  if (message.form) return formWords(message.form)
  if (message.referral?.ref) return `(came by ${message.referral.ref})`
  if (message.reaction) return `(${message.reaction.removed ? "took back" : "reacted"} ${message.reaction.emoji})`
  if (message.people)
    return `(${message.event} ${message.people.map((person) => person.name ?? person.address).join(", ")})`
  return `(${message.providerEvent ?? message.event})`
}

function formWords({ name, fields }: NonNullable<Message["form"]>): string {
  const filled = Object.entries(fields)
    .map(([field, value]) => `${field}: ${typeof value === "string" ? value : JSON.stringify(value)}`)
    .join(", ")
  return `(${name ?? "form"} ${filled})`
}
