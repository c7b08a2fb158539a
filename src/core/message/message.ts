/** One thing said, in or out, in Wobbet's own form. Every provider id is text; what is absent is left out. */
export interface Message {
  event: MessageEvent
  providerId?: string
  place: Place
  from?: Sender
  text?: string
  /** Formatted stretches of `text`, counted in UTF-16 code units. */
  marks?: Mark[]
  command?: { name: string; args?: string }
  choice?: Choice
  media?: Media[]
  location?: { latitude: number; longitude: number; name?: string; address?: string }
  contact?: Contact
  /** All of them, where several came at once. */
  contacts?: Contact[]
  /** What was filled in: a form's or view's fields by their names, or what was ordered. */
  form?: { name?: string; fields: { [field: string]: unknown } }
  /** Other fields of a gateway's call, by the names its profile gives them. */
  fields?: { [name: string]: string }
  /** What brought the person here: a link with a word of ours in it, an advertisement. */
  referral?: { ref?: string; source?: string; id?: string; title?: string }
  reaction?: { emoji: string; removed: boolean; to: string }
  /** The provider's id of the message this one answers. */
  replyTo?: string
  /** What the answered message said: as the provider repeats it, or as it stands on record. */
  quote?: string
  mentionsBot?: boolean
  /** An address at which this message may be answered for a while. */
  respondAt?: string
  /** What a word on its own asks of the sending itself, where the law gives such words a meaning, and elsewhere of what starts from us. */
  wish?: "stop" | "start" | "maybe start" | "help" | "no notices" | "notices again"
  /** Set on what was said here to try the bot: whether its replies are captured or sent. */
  simulated?: "captured" | "sent"
  /** Set on messages that one person sent as one album. */
  album?: string
  forwarded?: { from?: string }
  /** What the provider calls an event that has no word of ours, such as `poll`. */
  providerEvent?: string
  /** What happened to an interview, for `interview`. */
  moment?: Moment
  /** People who came or went, for `joined` and `left`. */
  people?: Sender[]
  /** ISO 8601, by the provider's clock. */
  sentAt?: string
}

export const messageEvents = [
  "text",
  "media",
  "command",
  "choice",
  "location",
  "contact",
  "form",
  "reaction",
  "edited",
  "deleted",
  "joined",
  "left",
  "template-status",
  /** A time is over that an interview had waited for, or somebody stepped in. */
  "interview",
  /** What was said here was removed, since its person asked for that. */
  "forgotten",
  "unknown",
] as const
export type MessageEvent = (typeof messageEvents)[number]

/** What a person *says*; everything else runs only a route that names its event. */
export const spokenEvents: ReadonlySet<MessageEvent> = new Set([
  "text",
  "media",
  "command",
  "choice",
  "location",
  "contact",
  "form",
])

export const mediaKinds = ["image", "audio", "voice", "video", "file", "sticker"] as const
export type MediaKind = (typeof mediaKinds)[number]

export interface Media {
  kind: MediaKind
  /** How the provider names the content; fetched with the channel's own keys. */
  ref: string
  mime?: string
  name?: string
  /** Bytes. */
  size?: number
  caption?: string
}

/** What happens to an interview without anything being said. */
export interface Moment {
  interview: string
  /** Which turn had set the time; absent where a person decided. */
  mark?: string
  /** A pause is over, the time for something expected, the time for an answer, nearly so; something else was said; or a person ends it or steps it back. */
  what: "time" | "word" | "late" | "reminder" | "aside" | "end" | "back"
  /** Who decided. */
  by?: string
  /** Nothing is said, since the person wants nothing that starts here. */
  dropped?: true
}

export interface Place {
  address: string
  kind: "direct" | "group" | "broadcast"
  title?: string
  topic?: string
  /** Where the provider wants answers of this turn, instead of at the address. */
  respondAt?: string
}

export interface Sender {
  address: string
  name?: string
  handle?: string
  language?: string
  bot: boolean
  /** Whether this person runs the place, where the provider tells. */
  admin?: boolean
}

export interface Contact {
  name: string
  phone?: string
  address?: string
}

export interface Choice {
  id: string
  label?: string
  /** Every id, where several choices were picked at once. */
  ids?: string[]
}

export interface Mark {
  kind: "bold" | "italic" | "underline" | "strike" | "code" | "pre" | "link" | "mention" | "quote" | "tag" | "other"
  offset: number
  length: number
  url?: string
  /** Set where the bot itself is mentioned: no phrase has to name it. */
  self?: true
  /** What stood there in the provider's own writing. */
  original?: string
}
