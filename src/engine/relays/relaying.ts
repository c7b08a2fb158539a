import type { Logger } from "pino"
import { kindOf } from "../../core/channels/registry.ts"
import type { Message, Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { RenderedPart } from "../../core/channels/renderReply.ts"
import { wordsOf } from "../../core/message/words.ts"
import { relayedParts, repeats } from "../../core/relay/relay.ts"
import type { Bell } from "../../store/bell.ts"
import { conversationById, placeToTell } from "../../store/conversations.ts"
import type { Database } from "../../store/database.ts"
import { newId } from "../../store/ids.ts"
import type { MarkOf } from "../../store/directory.ts"
import { conversationsAt } from "../../store/directory.ts"
import { addToLine, sentAs } from "../../store/outbox.ts"
import type { Copy, DueRelay, RelayFate } from "../../store/relays.ts"
import {
  copiesComing,
  copiesOf,
  firstCopy,
  keepTopic,
  mediaKeptOf,
  openedTopic,
  refusedSince,
  sameAgain,
  showDue,
  shownLately,
  topicRefused,
} from "../../store/relays.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import { addressOn } from "../channels.ts"
import type { Errands } from "../process/errands.ts"
import type { Repeated } from "../process/every.ts"
import { withKept } from "../replies/keptMedia.ts"
import { NotRendered } from "../replies/renderer.ts"
import type { Renderer } from "../replies/renderer.ts"
import { messageOf } from "../replies/renderPart.ts"

/** Shown in one transaction. */
const atOnce = 20
/** Times that the same may be said between the same two places in a minute. */
const mostSame = 3
/** Messages that may go from one place to another in a minute: more than any provider takes for one place. */
const mostInMinute = 200
/** Milliseconds for which a copy, or a picture, that is still to come is waited for. */
const longestWait = 5 * 60_000

interface Parts {
  database: Database
  channels: Channels
  renderer: Renderer
  bell: Bell
  errands: Errands
  log: Logger
  markOf: MarkOf
}

/** Shows what was said in one place in another, in a step of its own: no turn waits for the other line. */
export class Relaying {
  private repeated: Repeated | undefined

  constructor(private readonly parts: Parts) {}

  start(): void {
    const failed = "what is relayed could not be shown; it is tried again"
    this.repeated = this.parts.errands.whenDue("relays", () => this.look(), failed, "relays")
  }

  async stop(): Promise<void> {
    await this.repeated?.stop()
  }

  private async look(): Promise<void> {
    const { database, bell } = this.parts
    for (let shown = atOnce; shown === atOnce;) {
      shown = await showDue(database, atOnce, (relay, step) => this.show(relay, step))
      if (shown > 0) {
        bell.ring("sends")
        bell.ring("live")
      }
    }
  }

  private async show(relay: DueRelay, step: Database): Promise<RelayFate> {
    const known = this.parts.channels.get(relay.toChannel)
    if (!known) return { is: "failed", why: `there is no channel ${relay.toChannel}` }
    try {
      return relay.what === "said" ? await this.said(relay, known, step) : await this.changed(relay, step)
    } catch (error) {
      if (error instanceof NotRendered && !error.again) return { is: "failed", why: error.message }
      throw error
    }
  }

  private async said(relay: DueRelay, known: KnownChannel, step: Database): Promise<RelayFate> {
    const led = await this.ledBack(relay, step)
    if (led) return led
    const kept = relay.body.media ? await mediaKeptOf(step, relay.message) : []
    if (!kept && relay.age < longestWait)
      return { is: "later", milliseconds: 500, why: "its media are still to be fetched" }
    const to = await this.placeFor(relay, known, step)
    if ("is" in to) return to
    const { conversation, place } = to
    const at = await placeToTell(step, conversation)
    if (at?.unwanted) return { is: "skipped", why: "whoever is there asked for nothing that starts here" }
    const parts = relayedParts(relay.body, {
      by: relay.names ? this.nameOf(relay) : undefined,
      replyTo: relay.answers ?? undefined,
      kept: kept ?? [],
    })
    return this.add(parts, { conversation, place, known, author: relay.message }, step)
  }

  /** Whether it is what was relayed already, and came back from the far side. */
  private async ledBack(relay: DueRelay, step: Database): Promise<RelayFate | undefined> {
    const { log } = this.parts
    const { times, all, stopped } = await sameAgain(step, relay)
    if (stopped)
      // Only what stopped it counts: whoever goes on talking does not make it last.
      return { is: "skipped", why: "this relay was stopped within the last ten minutes: the same came again and again" }
    const shown = await shownLately(step, relay)
    const { copy, again } = repeats(wordsOf(relay.body), shown)
    // Who answers a copy may quote it.
    const isAnswer = relay.toConversation !== null
    if (!isAnswer && (copy || shown.some(({ same }) => same)))
      return { is: "skipped", why: "it says again what was relayed here: the far side may show what it is shown" }
    const why =
      times >= mostSame
        ? `the same was said here more than ${mostSame} times within a minute: the relay may lead back to itself`
        : again >= mostSame
          ? `what was relayed came back within more words ${mostSame} times: the relay may lead back to itself`
          : all >= mostInMinute
            ? `more than ${mostInMinute} messages went this way within a minute: the relay may lead back to itself`
            : undefined
    if (why === undefined) return undefined
    log.warn(`the relay from ${relay.channel} to ${relay.toChannel} ${relay.toPlace} is stopped for a while: ${why}`)
    return { is: "stopped", why }
  }

  private nameOf({ body, channel }: DueRelay): string {
    return nameOf(body, this.parts.channels.get(channel))
  }

  /** Where it goes: back into the conversation it answers, into its thread, or to the place as it is. */
  private async placeFor(
    relay: DueRelay,
    known: KnownChannel,
    step: Database,
  ): Promise<{ conversation: string; place: Place } | RelayFate> {
    const { toConversation, toPlace, toChannel } = relay
    if (toConversation !== null) {
      const found = await conversationById(step, toConversation)
      if (!found || found.forgottenAt) return { is: "skipped", why: "the conversation is not there any more" }
      const { address, kind, topic } = found
      return { conversation: found.id, place: { address, kind: kind as Place["kind"], ...(topic ? { topic } : {}) } }
    }
    const kind = kindOf(known.row.kind)
    const address = addressOn(known, toPlace)
    const place: Place = { address, kind: kind.placeKind?.(address) ?? "direct" }
    if (relay.threads && kind.threads) {
      const first = await firstCopy(step, relay)
      const root = first === undefined ? undefined : await sentAs(step, first)
      if (root === "on its way") return { is: "later", milliseconds: 300, why: "its thread is still to begin" }
      if (root !== undefined) place.topic = root
    }
    if (relay.threads && kind.topics) {
      const topic = await this.topicFor(relay, known, place, step)
      if (typeof topic === "object") return topic
      if (topic !== undefined) place.topic = topic
    }
    const [conversation] = await conversationsAt(step, [{ channel: toChannel, place }], this.parts.markOf)
    return { conversation: conversation!, place }
  }

  /** The topic of a conversation in a group, which is opened when there is none; nothing where none can be opened. */
  private async topicFor(
    relay: DueRelay,
    known: KnownChannel,
    group: Place,
    step: Database,
  ): Promise<string | undefined | RelayFate> {
    const { conversation, channel, toChannel, toPlace, names, message } = relay
    const topics = kindOf(known.row.kind).topics!
    const opened = await openedTopic(step, relay)
    let topic = opened && (await sentAs(step, opened))
    if (topic === "on its way") return { is: "later", milliseconds: 300, why: "its topic is still to be opened" }
    // A deleted topic is opened again.
    if (opened && topic !== undefined && (await refusedSince(step, relay, opened)).some(topics.isGone))
      topic = undefined
    // Whoever is to see to it has been told once: not for everybody who writes.
    if (topic !== undefined || (await topicRefused(step, relay))) return topic
    const [line] = await conversationsAt(step, [{ channel: toChannel, place: group }], this.parts.markOf)
    const from = await conversationById(step, conversation)
    const title = (from?.kind === "group" && from.title) || this.nameOf(relay)
    const id = newId("msg")
    const call = topics.open(title.trim() || "Somebody")
    await addToLine(step, { conversation: line!, channel: known.row.key }, [
      {
        ...{ id, event: "topic", origin: "relay" as const, author: message },
        ...{ body: { part: "text", text: title }, words: title, calls: [call] },
      },
    ])
    await keepTopic(step, { message: id, conversation, channel, toChannel, toPlace, names, askedBy: message })
    return { is: "later", milliseconds: 300, why: "its topic is still to be opened" }
  }

  /** An edit or a deletion is followed wherever its message was shown. */
  private async changed(relay: DueRelay, step: Database): Promise<RelayFate> {
    const { conversation, providerId, answers, what, body, age } = relay
    const meant = [providerId, answers].filter((id): id is string => id !== null)
    const here = (one: Copy) => one.toChannel === relay.toChannel && one.toPlace === relay.toPlace
    let copies: Copy[] = []
    let coming = false
    for (const id of meant) {
      if (copies.length === 0) copies = (await copiesOf(step, conversation, id)).filter(here)
      coming ||= await copiesComing(step, conversation, id)
    }
    if (copies.length === 0) {
      if (coming) return { is: "later", milliseconds: 300, why: "its message is still to be shown" }
      return { is: "skipped", why: "its message was not shown there" }
    }
    const [copy] = copies
    const known = this.parts.channels.get(copy!.toChannel)
    if (!known) return { is: "failed", why: `there is no channel ${copy!.toChannel}` }
    const shown = kindOf(known.row.kind).abilities.parts[what === "edited" ? "amend" : "remove"]
    if (shown.how === "left out" || shown.how === "words")
      return { is: "skipped", why: `${known.row.kind} cannot change what was said` }
    const sent = await sentAs(step, copy!.copy)
    if (sent === "on its way" && age < longestWait)
      return { is: "later", milliseconds: 300, why: "its message is still to arrive" }
    if (sent === undefined || sent === "on its way") return { is: "skipped", why: "its message never arrived" }
    const by = relay.names ? this.nameOf(relay) : undefined
    const [words] = relayedParts({ ...body, event: "text", media: undefined! }, { by, kept: [] })
    const part: ReplyPart =
      what === "edited"
        ? { part: "amend", to: sent, text: (words as { text: string }).text }
        : { part: "remove", to: sent }
    const found = await conversationById(step, copy!.copyConversation)
    if (!found) return { is: "skipped", why: "the conversation is not there any more" }
    const { address, kind, topic } = found
    const place: Place = { address, kind: kind as Place["kind"], ...(topic ? { topic } : {}) }
    return this.add([part], { conversation: found.id, place, known, author: relay.message }, step)
  }

  private async add(
    given: ReplyPart[],
    at: { conversation: string; place: Place; known: KnownChannel; author: string },
    step: Database,
  ): Promise<RelayFate> {
    const { conversation, place, known, author } = at
    const parts = await withKept(step, given)
    const done = await this.rendered(parts, place, known)
    const impossible = done.map(({ rendered }) => rendered.impossible ?? rendered.leftOut).find(Boolean)
    if (impossible) return { is: "failed", why: `it cannot be said on ${known.row.kind}: ${impossible}` }
    const messages = done.map((one) => ({ ...messageOf(one), origin: "relay" as const, author }))
    await addToLine(step, { conversation, channel: known.row.key }, messages)
    return { is: "shown", copy: messages[0]!.id, conversation }
  }

  /** As it is said in a place; where that is a topic that may be gone by then, in the group itself instead. */
  private async rendered(parts: ReplyPart[], place: Place, known: KnownChannel): Promise<RenderedPart[]> {
    const { renderer } = this.parts
    const done = await renderer.reply(parts, place, known)
    if (!kindOf(known.row.kind).topics || place.topic === undefined) return done
    const { topic: _gone, ...group } = place
    const instead = await renderer.reply(parts, group, known)
    done.forEach(({ rendered }, at) => {
      const [call, ...more] = rendered.calls
      const [other] = instead[at]!.rendered.calls
      // What takes several calls is not begun in one place and ended in another, and files are not kept twice.
      if (!call?.speaks || !other || more.length > 0 || (call.body && "form" in call.body)) return
      rendered.calls = [{ ...call, mayFail: true, ends: true }, other]
    })
    return done
  }
}

/** Who said something, and where. */
function nameOf({ from }: Message, known: KnownChannel | undefined): string {
  const who = from?.name ?? from?.handle ?? from?.address ?? "Somebody"
  return known ? `${who} (${kindOf(known.row.kind).provider})` : who
}
