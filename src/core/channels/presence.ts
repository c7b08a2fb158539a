import type { OutgoingCall, ProviderAnswer } from "./call.ts"
import type { Channel } from "./channel.ts"

/** What people see of a bot at its provider, as its folder wants it. */
export interface Presence {
  name?: string
  /** A line. */
  about?: string
  /** A few sentences. */
  description?: string
  commands?: { command: string; says: string }[]
  /** A file of the bot folder. */
  picture?: string
}

export const presenceFields = ["name", "about", "description", "commands", "picture"] as const
export type PresenceField = (typeof presenceFields)[number]

/** How a kind of channel reads and sets what people see. */
export interface Presenting {
  /** What is set now: the calls, and what their answers say, in the same order; undefined for what cannot be read. */
  ask(channel: Channel): OutgoingCall[]
  read(answers: ProviderAnswer[]): Presence | undefined
  /** The calls that set these fields. */
  set(wanted: Presence, fields: PresenceField[], channel: Channel): OutgoingCall[]
  /** Characters a field may have; a longer one is cut. */
  longest: { [field in Exclude<PresenceField, "commands" | "picture"> | "says"]?: number }
  /** Fields that only a person can set, and where. */
  byHand: { [field in PresenceField]?: string }
}

/** One field that is not as it is wanted. */
export interface PresenceDifference {
  field: PresenceField
  wanted: string
  /** Nothing where it is not known. */
  now?: string
  /** Where a person sets it, if the service cannot. */
  byHand?: string
}

/** What is wanted, as this kind can have it. */
export function fitted(wanted: Presence, { longest }: Presenting): Presence {
  const cut = (text: string, most: number | undefined) =>
    most !== undefined && text.length > most ? `${text.slice(0, most - 1).trimEnd()}…` : text
  return {
    ...wanted,
    ...(wanted.name === undefined ? {} : { name: cut(wanted.name, longest.name) }),
    ...(wanted.about === undefined ? {} : { about: cut(wanted.about, longest.about) }),
    ...(wanted.description === undefined ? {} : { description: cut(wanted.description, longest.description) }),
    ...(wanted.commands === undefined
      ? {}
      : { commands: wanted.commands.map(({ command, says }) => ({ command, says: cut(says, longest.says) })) }),
  }
}

/** Where what is set differs from what is wanted. A picture is never compared: no provider tells which it is. */
export function presenceDifferences(wanted: Presence, now: Presence, { byHand }: Presenting): PresenceDifference[] {
  return presenceFields.flatMap((field): PresenceDifference[] => {
    if (wanted[field] === undefined) return []
    const hand = byHand[field]
    const [want, is] = [written(wanted, field), written(now, field)]
    if (hand === undefined && field === "picture") return []
    if (hand === undefined && want === is) return []
    return [
      { field, wanted: want, ...(now[field] === undefined ? {} : { now: is }), ...(hand ? { byHand: hand } : {}) },
    ]
  })
}

function written(presence: Presence, field: PresenceField): string {
  if (field === "commands")
    return (presence.commands ?? []).map(({ command, says }) => `/${command} – ${says}`).join("; ")
  return presence[field] ?? ""
}
