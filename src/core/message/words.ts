import type { Message, Moment } from "./message.ts"

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
  if (message.moment) return `(${momentWords[message.moment.what]})`
  return `(${message.providerEvent ?? message.event})`
}

/** What happened to an interview without anything being said. */
const momentWords: { [what in Moment["what"]]: string } = {
  time: "a pause is over",
  word: "the time for what was expected is over",
  late: "the time for an answer is over",
  reminder: "the time for an answer is nearly over",
  aside: "something else was said, and the question is put again",
  end: "ended by hand",
  back: "stepped back by hand",
}

function formWords({ name, fields }: NonNullable<Message["form"]>): string {
  const filled = Object.entries(fields)
    .map(([field, value]) => `${field}: ${typeof value === "string" ? value : JSON.stringify(value)}`)
    .join(", ")
  return `(${name ?? "form"} ${filled})`
}
