import { createHash } from "node:crypto"
import { kindOf } from "../../core/channels/registry.ts"
import { wordsOf } from "../../core/message/words.ts"
import type { Relay } from "../../core/relay/relay.ts"
import { relayWhat } from "../../core/relay/relay.ts"
import type { RouteTable } from "../../core/routing/table.ts"
import type { Situation } from "../../core/routing/situation.ts"
import type { Database } from "../../store/database.ts"
import { newId } from "../../store/ids.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import { nowOf } from "../../store/lines.ts"
import { sentAs } from "../../store/outbox.ts"
import type { Copy, RelayChange } from "../../store/relays.ts"
import { copiesOf, copyAt, copyOnItsWay, shownElsewhere, topicAt } from "../../store/relays.ts"
import type { KnownChannel } from "../channels.ts"

/** The relays beside the routes that a message is for. */
export function alsoFor(table: RouteTable, situation: Situation): Relay[] {
  return (table.bot.also ?? []).filter(({ when }) => table.meets(when, situation)).map(({ relay }) => relay)
}

/** Whether anything of a bot is relayed. */
export function relaysAnything({ bot }: RouteTable): boolean {
  return bot.also !== undefined || bot.routes.some(({ handler }) => typeof handler === "object" && "relay" in handler)
}

/** It cannot be decided yet; it is looked at again in a moment. */
export class NotYet extends Error {}

/** Milliseconds after its receipt within which an answer waits to learn what it answers. */
const longestUnknown = 20_000

/**
 * What a message answers that was shown here from elsewhere; nothing where it answers no such. Throws NotYet where it
 * answers something unknown, and copies were sent here whose id is not on record yet: it may be one of those.
 */
export async function answeredCopy(
  database: Database,
  line: Line,
  known: KnownChannel,
  { message, receivedAt }: PendingMessage,
): Promise<Copy | undefined> {
  if (relayWhat(message) !== "said") return undefined
  const { threads, topics } = kindOf(known.row.kind)
  const { replyTo, place } = message
  const at = { channel: line.channel, place: line.place.address }
  const ids = [replyTo, threads ? place.topic : undefined].filter((id): id is string => id !== undefined)
  let copy = ids.length > 0 ? await copyAt(database, at, ids) : undefined
  if (!copy && ids.length > 0) {
    const waits = nowOf(line).getTime() - receivedAt.getTime() < longestUnknown && (await copyOnItsWay(database, at))
    if (waits) throw new NotYet("the copy that it may answer is still on its way")
    // It may have come on record between the two looks.
    copy = await copyAt(database, at, ids)
  }
  return copy ?? (topics && place.topic !== undefined ? topicAt(database, at, place.topic) : undefined)
}

/** What is kept of a turn's messages to be shown elsewhere. */
export async function relayChanges(
  database: Database,
  line: Line,
  messages: PendingMessage[],
  relays: Relay[],
): Promise<RelayChange[]> {
  const targets = relays.flatMap(({ to, ...how }) => to.map((place) => ({ ...place, ...how })))
  const changes: RelayChange[] = []
  for (const { id, message } of messages) {
    const what = relayWhat(message)
    if (what === undefined) continue
    if (what !== "said") {
      // An edit, or a deletion, goes wherever its message went.
      const meant = [message.providerId, message.replyTo].filter((one): one is string => one !== undefined)
      for (const shown of await shownElsewhere(database, line.conversation, meant))
        changes.push({ ...changeOf(line, id, message, what), ...shown })
      continue
    }
    for (const { channel, place, names, threads } of targets) {
      // A place is not shown what was said in it.
      if (channel === line.channel && place === line.place.address) continue
      const answered =
        message.replyTo !== undefined ? await overThere(database, line, message.replyTo, { channel, place }) : undefined
      changes.push({
        ...changeOf(line, id, message, what),
        toChannel: channel,
        toPlace: place,
        names,
        threads,
        ...(answered === undefined ? {} : { answers: answered }),
      })
    }
  }
  return changes
}

/** What is kept of an answer that goes back to where the answered was said. */
export function answerChange(line: Line, { id, message }: PendingMessage, copy: Copy): RelayChange {
  return {
    ...changeOf(line, id, message, "said"),
    toChannel: copy.channel,
    toPlace: copy.conversation,
    toConversation: copy.conversation,
    names: copy.names,
    threads: false,
    // Whoever writes into the thread of one copy answers that one; a thread of a whole conversation answers none of it.
    answers: message.replyTo !== undefined || !copy.threads ? (copy.providerId ?? undefined) : undefined,
  }
}

function changeOf(line: Line, id: string, message: PendingMessage["message"], what: RelayChange["what"]) {
  const { conversation, channel } = line
  // Some providers give an edit an id of its own, and say in another field which message is meant.
  const { providerId, replyTo } = message
  const media = (message.media ?? []).map(({ ref }) => ref).join()
  const words = createHash("sha256")
    .update(`${wordsOf(message)} ${media}`)
    .digest("hex")
    .slice(0, 32)
  return {
    id: newId("rly"),
    message: id,
    conversation,
    channel,
    providerId,
    what,
    words,
    answers: what === "said" ? undefined : replyTo,
  }
}

/** How something said in a conversation is called in a place it was shown in, or came from. */
async function overThere(
  database: Database,
  line: Line,
  providerId: string,
  to: { channel: string; place: string },
): Promise<string | undefined> {
  const came = await copyAt(database, { channel: line.channel, place: line.conversation }, [providerId])
  if (came && came.channel === to.channel) return came.providerId ?? undefined
  const copies = await copiesOf(database, line.conversation, providerId)
  const copy = copies.find((one) => one.toChannel === to.channel && one.toPlace === to.place)
  const sent = copy && (await sentAs(database, copy.copy))
  return sent === "on its way" ? undefined : sent
}
