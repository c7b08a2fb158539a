import { createHash } from "node:crypto"
import { kindOf } from "../core/channels/registry.ts"
import { unknownExtras } from "../core/channels/extras.ts"
import { choicesOffered } from "../core/channels/options.ts"
import type { ReplyPart } from "../core/message/reply.ts"
import type { Offered } from "../store/lines.ts"
import type { Doer } from "../store/access.ts"
import { record } from "../store/access.ts"
import type { ConversationRow } from "../store/conversations.ts"
import { conversationAt, conversationById, peopleAt, spokeWithin } from "../store/conversations.ts"
import { conversationsAt } from "../store/directory.ts"
import { addToLine } from "../store/outbox.ts"
import type { ParkedRow } from "../store/parked.ts"
import { decideParked, parkedById, rejoinLine } from "../store/parked.ts"
import { messagesById } from "../store/messages.ts"
import type { Engine } from "./engine.ts"
import { addressOn } from "./channels.ts"
import { withKept } from "./replies/keptMedia.ts"
import { withMentions } from "./replies/mentions.ts"
import { notFound, Trouble } from "./trouble.ts"
import { NotRendered } from "./replies/renderer.ts"
import { messageOf } from "./replies/renderPart.ts"

/** What people and applications do by hand: say something, and decide about what is parked. */
export class Desk {
  constructor(private readonly engine: Engine) {}

  /**
   * Says something in a conversation, or at an address that has spoken or may be spoken to.
   *
   * @param key makes the call repeatable: the same key by the same author sends once, and gives the same answer.
   */
  async send(given: {
    to: string
    channel?: string
    replies: ReplyPart[]
    author: string
    origin: "api" | "person"
    key?: string
  }): Promise<{ conversation: string; messages: string[] }> {
    const { database, bell, sender, care } = this.engine
    const conversation = await this.conversation(given.to, given.channel)
    const known = care.known(conversation.channel)
    if (conversation.forgottenAt)
      throw new Trouble(
        "forgotten",
        "The person of this conversation was forgotten on request.",
        "Whoever writes again has a new conversation.",
        "to",
      )
    if (conversation.optedOut) {
      throw new Trouble(
        "opted-out",
        "This person has asked to be sent nothing more.",
        "Nothing may be sent to them until they have said START.",
        "to",
      )
    }
    const answers = given.origin === "person" || (await spokeWithin(database, conversation.id, 15))
    if (conversation.noNotices && !answers)
      throw new Trouble(
        "opted-out",
        "This person has asked for nothing that starts here.",
        "They may be answered within 15 minutes of what they say, and written to once they have said START.",
        "to",
      )
    const { address, kind, title, topic } = conversation
    const place = { address, kind: kind as "direct", ...(title ? { title } : {}), ...(topic ? { topic } : {}) }
    const offered: Offered[] = []
    const [unknown] = given.replies.flatMap((part) => unknownExtras(kindOf(known.row.kind), part, known.channel))
    if (unknown !== undefined)
      throw new Trouble("bad-input", `The extra ${unknown}.`, "Leave it out, or name one there is.", "extra")
    const replies = await withMentions(database, await withKept(database, given.replies), known)
    const done = await this.engine.renderer.reply(replies, place, known).catch(cannotBeRendered)
    const messages = done.map((one) => {
      const { part, rendered } = one
      const impossible = rendered.impossible ?? rendered.leftOut
      if (impossible) {
        throw new Trouble(
          "cannot-be-said",
          `The ${part.part} part cannot be said on ${known.row.kind}: ${impossible}.`,
          "Say it with another part.",
          "replies",
        )
      }
      offered.push(...choicesOffered(part))
      return { ...messageOf(one), origin: given.origin, author: given.author }
    })
    const answer = { conversation: conversation.id, messages: messages.map((message) => message.id) }
    const fingerprint = createHash("sha256")
      .update(JSON.stringify([given.to, given.channel, given.replies]))
      .digest("hex")
    const once = given.key === undefined ? undefined : { key: given.key, author: given.author, fingerprint, answer }
    const added = await addToLine(
      database,
      { conversation: conversation.id, channel: conversation.channel },
      messages,
      once,
      messages.some((message) => message.calls.some((call) => call.speaks)) ? offered : undefined,
    )
    if (added.clash) {
      throw new Trouble(
        "key-reused",
        `The Idempotency-Key "${given.key}" was used before for something else.`,
        "Use a new key for a new message; repeat a key only with the same request.",
        "Idempotency-Key",
      )
    }
    if (!added.added) return added.answer as typeof answer
    sender?.lineGrew(conversation.id, conversation.channel)
    bell.ring("sends")
    bell.ring("live")
    return answer
  }

  /** Finds a conversation by its id or by the provider's id of its place. */
  async conversation(to: string, channel?: string): Promise<ConversationRow> {
    const { database, care, seal } = this.engine
    if (to.startsWith("cnv_")) {
      const found = await conversationById(database, to)
      if (!found) throw notFound("conversation", to, '"wobbet conversation list" shows those there are.')
      return found
    }
    const found = await this.conversationsAtAddress(to, channel)
    if (found.length === 1) return found[0]!
    if (found.length > 1) {
      throw new Trouble(
        "bad-input",
        `The address "${to}" is known on several channels: ${found.map((one) => one.channel).join(", ")}.`,
        "Name the channel.",
        "channel",
      )
    }
    const address = channel === undefined ? to : addressOn(care.known(channel), to)
    if (channel === undefined) {
      // Somebody who has spoken in a group only is written to where they did.
      const people = await peopleAt(database, to)
      if (people.length === 1) return this.conversation(to, people[0]!.channel)
      throw notFound(
        "conversation at the address",
        to,
        "Name the channel to write to somebody new; the provider decides whether that is allowed.",
      )
    }
    const kind = kindOf(care.known(channel).row.kind).placeKind?.(address) ?? "direct"
    const [id] = await conversationsAt(database, [{ channel, place: { address, kind } }], (...of) => seal.mark(...of))
    return (await conversationById(database, id!))!
  }

  /** The conversations at an address, in whatever form it was written: each kind of channel keeps its own. */
  private async conversationsAtAddress(to: string, channel: string | undefined): Promise<ConversationRow[]> {
    const { database, channels, care } = this.engine
    const asked = channel === undefined ? channels.all() : [care.known(channel)]
    const forms = new Map(asked.map((known) => [known.row.key, addressOn(known, to)]))
    // As it was written comes last: an earlier version may have begun a conversation there.
    const found = new Map<string, ConversationRow>()
    for (const form of new Set([...forms.values(), to])) {
      for (const one of await conversationAt(database, form, channel))
        if ((form === to || forms.get(one.channel) === form) && !found.has(one.channel)) found.set(one.channel, one)
    }
    return [...found.values()]
  }

  async retry(id: string, by: Doer): Promise<ParkedRow> {
    const parked = await this.open(id)
    if (!(await rejoinLine(this.engine.database, parked, by.name))) throw decided(id)
    await this.decided(parked, "retry", by)
    this.engine.bell.ring(parked.what === "turn" ? "work" : "sends")
    if (parked.what === "send") this.engine.sender?.lineGrew(parked.conversation, parked.channel)
    return (await parkedById(this.engine.database, id))!
  }

  /** Sends other words instead of a parked message. */
  async edit(id: string, text: string, by: Doer): Promise<{ messages: string[] }> {
    const parked = await this.open(id)
    if (parked.what === "turn") {
      throw new Trouble(
        "bad-input",
        "What a person said cannot be edited.",
        "Retry it, drop it, or answer by hand with a send.",
      )
    }
    const [message] = await messagesById(this.engine.database, [parked.message])
    const body = message!.body as unknown as ReplyPart
    const changed: ReplyPart =
      body.part === "choices" || body.part === "text" || body.part === "amend"
        ? { ...body, text }
        : body.part === "media"
          ? { ...body, caption: text }
          : { part: "text", text }
    if (!(await decideParked(this.engine.database, id, "edit", by.name))) throw decided(id)
    await this.decided(parked, "edit", by)
    return this.send({ to: parked.conversation, replies: [changed], author: by.name, origin: "person" })
  }

  async drop(id: string, by: Doer): Promise<ParkedRow> {
    const parked = await this.open(id)
    if (!(await decideParked(this.engine.database, id, "drop", by.name))) throw decided(id)
    await this.decided(parked, "drop", by)
    return (await parkedById(this.engine.database, id))!
  }

  private async open(id: string): Promise<ParkedRow> {
    const parked = await parkedById(this.engine.database, id)
    if (!parked) throw notFound("parked item", id, '"wobbet parked list" shows those there are.')
    if (parked.decision) throw decided(id)
    return parked
  }

  private async decided(parked: ParkedRow, decision: string, by: Doer): Promise<void> {
    await record(this.engine.database, by, `parked ${decision}`, { id: parked.id, message: parked.message })
    this.engine.bell.ring("live")
  }
}

/** Says why a reply cannot be rendered, where that is its own fault. */
export function cannotBeRendered(error: unknown): never {
  if (!(error instanceof NotRendered)) throw error
  const why = `The reply cannot be rendered: ${error.message}.`
  throw error.again
    ? new Trouble("too-slow", why, "Try again in a moment, or say less at once.", "replies", 5)
    : new Trouble("cannot-be-said", why, "Say less at once.", "replies")
}

function decided(id: string): Trouble {
  return new Trouble(
    "decided",
    `Somebody has decided about ${id} already.`,
    '"wobbet parked list --all" shows what was decided.',
  )
}
