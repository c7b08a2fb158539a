import { kindOf } from "../../core/channels/registry.ts"
import { hasProfile, profileOf } from "../../core/gateway/shipped.ts"
import type { Database } from "../../store/database.ts"
import type { PendingMessage } from "../../store/lines.ts"
import { saidJustNow } from "../../store/messages.ts"
import type { KnownChannel } from "../channels.ts"

/** Letters and digits by which a text is told from what anybody might say, such as "ok". */
const least = 8

/**
 * Marks what comes back as our own words: some gateways bring what was sent as if a person had said it, and a bot would
 * answer itself without end. Where the profile says how such words are told, that counts; otherwise a text that was sent to
 * the same place within a minute is ours.
 */
export async function withoutEchoes(
  database: Database,
  { row, channel }: KnownChannel,
  conversation: string,
  messages: PendingMessage[],
): Promise<PendingMessage[]> {
  if (!kindOf(row.kind).schemasFor || !hasProfile(channel) || profileOf(channel).inbound?.message.own) return messages
  if (!messages.some(({ message }) => bare(message.text).length >= least)) return messages
  const said = new Set((await saidJustNow(database, conversation)).map(bare))
  if (said.size === 0) return messages
  return messages.map((one) => {
    const text = bare(one.message.text)
    if (text.length < least || !said.has(text)) return one
    return { ...one, message: { ...one.message, own: "it says what was sent here within the last minute" } }
  })
}

/** Letters and digits alone: gateways change the rest. */
function bare(text: string | undefined): string {
  return (text ?? "").toLowerCase().replace(/[^\p{L}\p{N}]/gu, "")
}
