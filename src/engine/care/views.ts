import { createHash } from "node:crypto"
import type { PresenceView } from "./presence.ts"
import type { Further, HandValue, Identity, OnRecord } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { ChannelRow } from "../../store/channels.ts"
import type { KnownChannel } from "../channels.ts"
import { wallClock } from "../process/wallClock.ts"

/** A channel as it may be shown: settings, the names of its secrets, never their values. */
export interface ChannelView {
  key: string
  kind: string
  state: ChannelRow["state"]
  reason?: string
  remedy?: string
  settings: { [name: string]: unknown }
  secrets: string[]
  /** The names of secrets that were replaced and still verify calls. */
  formerSecrets?: string[]
  /** Changes whenever the channel is changed: what an ETag says. */
  tag: string
  bot?: string
  lane: string
  /** The release that answers; nothing where no bot is known by that name or lane. */
  release?: string
  /** Whether its address can be registered at the provider from here. */
  connects: boolean
  identity?: Identity
  checkedAt?: Date
  /** Where the provider is to call. */
  inlet: string
  lastGenuine?: Date
  lastRefused?: Date
  polling?: { says: string; remedy: string; since: Date }
  receives: "webhook" | "polling"
  /** What it cannot do, in words. */
  cannot?: string[]
  /** What may be said along with one message, and other fields of calls that reach handlers. */
  extras?: Further[]
  fields?: string[]
  /** Set for a channel whose gateway speaks by a profile; without one nothing it says can be read yet. */
  gateway?: { profile?: string }
  /** Who waits for a call to learn from, and until when. */
  learning?: { by: string; since: string; until: string }
  /** Which service elsewhere fetches this channel's calls, and how many wait for it. */
  bringing?: { by: string; since: string; until: string; taken: number; waiting: number; handed: number }
}

export interface ChannelComparison {
  onRecord?: OnRecord
  /** In words; empty when both sides agree. */
  differences: string[]
  fault?: { says: string; remedy: string }
  /** What a person enters at the provider, where the service cannot do it. */
  byHand?: HandValue[]
  /** What people see of the bot there, against what its folder wants. */
  account?: PresenceView
  /** What was said before the channel was connected: how many messages came, or why none could be fetched. */
  history?: { fetched: number } | { fault: string }
}

/** What is known of a channel besides its row. */
interface Known {
  inlet: string
  last: { genuine?: Date; refused?: Date }
  waiting: { waiting: number; handed: number } | undefined
  polling: ChannelView["polling"] | undefined
  release: string | undefined
}

/** Tells one version of a channel from every other. */
export function tagOf({ settings, sealed, former, bot, lane, state }: ChannelRow): string {
  const seen = JSON.stringify([settings, sealed, former, bot, lane, state])
  return createHash("sha256").update(seen).digest("base64url").slice(0, 16)
}

export function viewOf({ row, channel }: KnownChannel, { inlet, last, waiting, polling, release }: Known): ChannelView {
  const kind = kindOf(row.kind)
  const { profile } = row.settings as { profile?: string }
  const cannot = Object.values(kind.cannot?.(channel) ?? {})
  const { extras = [], fields = [] } = kind.further?.(channel) ?? {}
  return {
    key: row.key,
    kind: row.kind,
    state: row.state,
    ...(row.reason ? { reason: row.reason } : {}),
    ...(row.remedy ? { remedy: row.remedy } : {}),
    settings: row.settings,
    secrets: Object.keys(row.sealed),
    ...(Object.keys(row.former).length > 0 ? { formerSecrets: Object.keys(row.former) } : {}),
    tag: tagOf(row),
    ...(row.bot ? { bot: row.bot } : {}),
    lane: row.lane,
    ...(release ? { release } : {}),
    connects: (kind.account.connect?.(channel, "") ?? undefined) !== undefined || kind.polling?.(channel) !== undefined,
    ...(row.identity ? { identity: row.identity } : {}),
    ...(row.checked_at ? { checkedAt: row.checked_at } : {}),
    inlet,
    ...(last.genuine ? { lastGenuine: last.genuine } : {}),
    ...(last.refused ? { lastRefused: last.refused } : {}),
    ...(polling ? { polling } : {}),
    ...(cannot.length > 0 ? { cannot } : {}),
    ...(extras.length > 0 ? { extras } : {}),
    ...(fields.length > 0 ? { fields } : {}),
    receives: kind.polling?.(channel) ? "polling" : "webhook",
    ...(kind.schemasFor ? { gateway: profile ? { profile } : {} } : {}),
    ...(row.learning && Date.parse(row.learning.until) > wallClock("until").getTime()
      ? { learning: row.learning }
      : {}),
    ...(row.bringing
      ? { bringing: { ...row.bringing, waiting: waiting?.waiting ?? 0, handed: waiting?.handed ?? 0 } }
      : {}),
  }
}
