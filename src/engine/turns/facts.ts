import { kindOf } from "../../core/channels/registry.ts"
import type { Facts } from "../../core/routing/situation.ts"
import type { RouteTable } from "../../core/routing/table.ts"
import type { Database } from "../../store/database.ts"
import { factsOf } from "../../store/facts.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import type { KnownChannel } from "../channels.ts"

/** What only the record knows and the bot's decision asks for; undefined where it asks for nothing. */
export async function factsFor(
  database: Database,
  table: RouteTable,
  { row }: KnownChannel,
  line: Line,
  messages: PendingMessage[],
): Promise<Facts | undefined> {
  const { needs } = table
  const answered = line.place.kind === "group" ? answeredIn(messages, kindOf(row.kind).threads === true) : []
  const asks = needs.taken || needs.silent || needs.contact || needs.placeTags || answered.length > 0
  if (!asks) return undefined
  const [first] = messages
  const found = await factsOf(database, {
    conversation: line.conversation,
    channel: line.channel,
    position: first!.position,
    contact: messages.at(-1)!.contact,
    answered,
    address: line.place.address,
  })
  const facts: Facts = {}
  if (needs.taken) facts.taken = found.taken ?? {}
  if (needs.silent) facts.silent = found.before && first!.receivedAt.getTime() - found.before.getTime()
  if (needs.contact) facts.contact = found.contact ?? { tags: [], fields: {} }
  if (needs.placeTags) facts.placeTags = found.placeTags
  if (answered.length > 0) facts.answersBot = found.answersBot
  return facts
}

/** What the messages answer, by the provider's ids: also what a thread hangs on, where the kind has threads. */
function answeredIn(messages: PendingMessage[], threads: boolean): string[] {
  return messages.flatMap(({ message }) => {
    if (message.mentionsBot) return []
    const thread = threads ? message.place.topic : undefined
    return [message.replyTo, thread].filter((id) => id !== undefined)
  })
}
