import { kindOf } from "../../core/channels/registry.ts"
import { mentionedIn, withMentionsAs } from "../../core/message/mention.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { Database } from "../../store/database.ts"
import { addressesOn } from "../../store/directory.ts"
import type { KnownChannel } from "../channels.ts"

/** A reply whose mentions are said as its channel says them. */
export async function withMentions(database: Database, parts: ReplyPart[], known: KnownChannel): Promise<ReplyPart[]> {
  const who = mentionedIn(parts)
  if (who.length === 0) return parts
  const contacts = who.filter((one) => /^con_[0-9a-z]{26}$/.test(one))
  const addresses =
    contacts.length > 0 ? await addressesOn(database, known.row.key, contacts) : new Map<string, string>()
  const { mention } = kindOf(known.row.kind)
  return withMentionsAs(parts, (one, label) => {
    const address = addresses.get(one) ?? (contacts.includes(one) ? undefined : one)
    return address === undefined ? undefined : mention?.(address, label)
  })
}
