import { standsAlone } from "../../core/message/gather.ts"
import { readDuration } from "../../core/routing/duration.ts"
import type { PendingMessage } from "../../store/lines.ts"
import type { KnownChannel } from "../channels.ts"
import type { ReadyRelease } from "../handlers/handler.ts"

/** Messages of an album come one by one; the last is waited for this long, in milliseconds. */
const albumWait = 800

/** Milliseconds within which what one person sends belongs together: the channel's setting, else the bot's. */
export function gatherOf(known: KnownChannel, release: ReadyRelease | undefined): number {
  const setting = known.row.settings.gather as string | number | undefined
  return (setting === undefined ? undefined : readDuration(setting)) ?? release?.table.bot.gather ?? 0
}

/**
 * The messages that make up the next turn: one, an album, or what one person sent in one go, as far as it has come.
 *
 * @param frozen the position up to which it was settled by an earlier run of the turn
 */
export function nextGroup(pending: PendingMessage[], gather: number, frozen = 0): PendingMessage[] {
  const [first] = pending
  // A side effect of theirs has begun: what has come since belongs to the next turn.
  const fixed = pending.filter(({ position }) => position <= frozen)
  if (fixed.length > 0) return fixed
  if (!first || isAlone(first)) return pending.slice(0, 1)
  const end = pending.findIndex((message, at) => at > 0 && !belongsTo(message, pending[at - 1]!, first, gather))
  return end === -1 ? pending : pending.slice(0, end)
}

/** Milliseconds until the group is complete; nothing when it is. */
export function waitFor(group: PendingMessage[], pending: PendingMessage[], gather: number, now: number): number {
  const last = group.at(-1)!
  if (isAlone(last) || pending.length > group.length) return 0
  const window = last.message.album ? Math.max(gather, albumWait) : gather
  if (window <= 0) return 0
  // Somebody who never stops is answered all the same.
  const atMost = group[0]!.receivedAt.getTime() + 5 * window
  return Math.min(last.receivedAt.getTime() + window, atMost) - now
}

function isAlone({ message, rejoined }: PendingMessage): boolean {
  return standsAlone(message) || Boolean(message.own) || rejoined
}

function belongsTo(message: PendingMessage, before: PendingMessage, first: PendingMessage, gather: number): boolean {
  if (isAlone(message) || message.message.from?.address !== first.message.from?.address) return false
  const sameAlbum = message.message.album !== undefined && message.message.album === before.message.album
  const soon = gather > 0 && message.receivedAt.getTime() - before.receivedAt.getTime() <= gather
  return sameAlbum || soon
}
