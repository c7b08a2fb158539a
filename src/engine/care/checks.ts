import { unreadRefusal } from "../../core/gateway/learn/refusals.ts"
import { hasProfile, profileOf } from "../../core/gateway/shipped.ts"
import { noReceiver } from "../../core/gateway/receiver.ts"
import { isUnaddressed, unaddressedRemedy } from "../sender/alerts.ts"
import type { HandValue, Identity } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Database } from "../../store/database.ts"
import { callsSince, lastCalls, lastRefusal } from "../../store/intakeReads.ts"
import { profileChanged } from "../../store/profiles.ts"
import { lastAnswers } from "../../store/outbox.ts"
import { lanesKnown, releaseOfChannel } from "../../store/releases.ts"
import type { ChannelComparison } from "./views.ts"
import type { KnownChannel } from "../channels.ts"
import { perform } from "../calls/perform.ts"
import type { PollTrouble } from "../inlet/poller.ts"
import type { Seal } from "../seal.ts"
import { Trouble } from "../trouble.ts"
import { saysUnfetched, unfetched } from "./queueWatch.ts"
import { lookIn } from "./reachability.ts"
import { wallClock } from "../process/wallClock.ts"

/** One thing that must be right for a channel to work. */
export interface CheckLine {
  about: "keys" | "permissions" | "address on record" | "way in" | "calls" | "account" | "bot"
  /** `open`: nobody can tell from here, or it has not happened yet; `left`: not looked at, something before it is wrong. */
  mark: "right" | "wrong" | "open" | "left"
  says: string
  /** What to do. */
  remedy?: string
  /** The call that was refused. */
  passage?: string
}

export interface ChannelCheck {
  channel: string
  /** Whether nothing wrong was found. */
  ok: boolean
  lines: CheckLine[]
  identity?: Identity
  /** Whether a lock-out ended with this check. */
  resumed: boolean
  /** What a person enters at the provider, where the service cannot do it. */
  byHand?: HandValue[]
}

interface Walk {
  known: KnownChannel
  inlet: string
  database: Database
  seal: Seal
  pollTrouble: PollTrouble | undefined
  identify: () => Promise<{ identity: Identity; resumed: boolean }>
  compare: () => Promise<ChannelComparison>
}

type Step = () => Promise<CheckLine | CheckLine[]>

/** Looks at everything between the keys and the last call, in that order, until something is wrong. */
export async function walkTheLine(walk: Walk): Promise<ChannelCheck> {
  const check: ChannelCheck = { channel: walk.known.row.key, ok: true, lines: [], resumed: false }
  const steps: [CheckLine["about"], Step][] = [
    ["keys", () => keys(walk, check)],
    ["permissions", () => permissions(walk, check)],
    ["address on record", () => addressOnRecord(walk, check)],
    ["way in", () => wayIn(walk)],
    ["calls", () => calls(walk)],
    ["account", () => account(walk, check)],
    ["bot", () => bot(walk)],
  ]
  for (const [about, step] of steps) {
    if (!check.ok) check.lines.push({ about, mark: "left", says: "not looked at yet: fix the line above first" })
    else {
      const lines = [await step()].flat()
      check.lines.push(...lines)
      if (lines.some((line) => line.mark === "wrong")) check.ok = false
    }
  }
  return check
}

async function keys(walk: Walk, check: ChannelCheck): Promise<CheckLine[]> {
  const about = "keys"
  try {
    const { identity, resumed } = await walk.identify()
    check.identity = identity
    check.resumed = resumed
    const { receive, send } = kindOf(walk.known.row.kind).cannot?.(walk.known.channel) ?? {}
    const asked = kindOf(walk.known.row.kind).account.check(walk.known.channel) !== undefined
    const name = [identity.name, identity.handle && `@${identity.handle}`, `id ${identity.id}`]
      .filter(Boolean)
      .join(", ")
    const lines: CheckLine[] = [
      asked
        ? { about, mark: "right", says: `the keys work; they are those of ${name}` }
        : { about, mark: "open", says: `nothing tells whether the keys work before the first message is sent` },
    ]
    for (const no of [receive, send]) if (no) lines.push({ about, mark: "open", says: no })
    for (const remark of asked ? (identity.remarks ?? []) : []) {
      if (!(identity.missing?.length && remark.includes("lacks"))) lines.push({ about, mark: "open", says: remark })
    }
    return lines
  } catch (error) {
    if (!(error instanceof Trouble)) throw error
    return [
      {
        about,
        mark: "wrong",
        says: error.message.replace(/^The check of ".*?" failed: /, "").replace(/\.$/, ""),
        remedy: error.remedy,
      },
    ]
  }
}

async function permissions({ known }: Walk, check: ChannelCheck): Promise<CheckLine> {
  const about = "permissions"
  const { account, provider } = kindOf(known.row.kind)
  const missing =
    check.identity?.missing ??
    (account.permissions && account.readPermissions
      ? account.readPermissions(await perform(account.permissions(known.channel), known.channel, undefined))
      : undefined)
  if (missing === undefined) {
    return account.permissions
      ? { about, mark: "open", says: `${provider} does not tell what these keys may do` }
      : { about, mark: "right", says: "these keys carry no permissions that could be missing" }
  }
  if (missing.length === 0) return { about, mark: "right", says: "the keys have every permission that is needed" }
  const remedy = account.grant ?? "Make a new token that has them, and set it as this channel's secret."
  return {
    about,
    mark: "wrong",
    says: `the keys lack ${missing.join(", ")}: without them the bot cannot receive or send`,
    remedy,
  }
}

async function addressOnRecord(walk: Walk, check: ChannelCheck): Promise<CheckLine> {
  const about = "address on record"
  const { known } = walk
  if (onlySends(walk)) return { about, mark: "right", says: "none is needed: this channel only sends" }
  const { account, provider, polling } = kindOf(known.row.kind)
  const asks = polling?.(known.channel) !== undefined
  const compared = await walk.compare()
  if (compared.byHand) check.byHand = compared.byHand
  if (compared.fault) return { about, mark: "wrong", says: compared.fault.says, remedy: compared.fault.remedy }
  const [difference] = compared.differences
  if (difference !== undefined) {
    // The last sentence says what to do.
    const at = difference.search(/(Run|If that is not) /)
    const says = (at > 0 ? difference.slice(0, at) : difference).trim().replace(/\.$/, "")
    return { about, mark: "wrong", says, remedy: at > 0 ? difference.slice(at) : "Connect the channel again." }
  }
  if (asks)
    return { about, mark: "right", says: `none is needed: this channel asks ${inside(provider)} for its messages` }
  if (!account.lookUp?.(known.channel))
    return {
      about,
      mark: "open",
      says: `${provider} does not tell which address it has on record`,
      remedy: `It must be ${walk.inlet}; compare it there.`,
    }
  if (compared.onRecord?.address === undefined)
    return {
      about,
      mark: "right",
      says: `${provider} sends what is needed; the address itself is set in its pages`,
      remedy: `It must be ${walk.inlet}.`,
    }
  return { about, mark: "right", says: `${provider} has our address on record` }
}

function onlySends({ known }: Walk): boolean {
  return kindOf(known.row.kind).cannot?.(known.channel).receive !== undefined
}

/** Milliseconds within which a call that was brought here says that calls are brought here. */
const lately = 86_400_000

async function wayIn(walk: Walk): Promise<CheckLine> {
  const about = "way in"
  const { known, inlet, seal, pollTrouble, database } = walk
  if (onlySends(walk)) return { about, mark: "right", says: "nothing comes in: this channel only sends" }
  const { polling, provider } = kindOf(known.row.kind)
  if (polling?.(known.channel)) {
    const now = wallClock("figure")
    const waits = unfetched(known, now)
    if (waits)
      return {
        about,
        mark: "wrong",
        says: saysUnfetched(waits, now),
        remedy: pollTrouble
          ? `${pollTrouble.says}. ${pollTrouble.remedy}`
          : "Resume the channel, or see why it stands.",
      }
    return pollTrouble
      ? { about, mark: "wrong", says: pollTrouble.says, remedy: pollTrouble.remedy }
      : { about, mark: "right", says: `${provider} is asked for messages; nothing needs to reach this service` }
  }
  const { bringing } = known.row
  if (bringing && Date.parse(bringing.until) > wallClock("until").getTime())
    return { about, mark: "right", says: `calls wait here for ${bringing.by}, who fetches them` }
  const since = await callsSince(database, known.row.key)
  if (since?.via === "bring" && wallClock("figure").getTime() - since.at.getTime() < lately)
    return {
      about,
      mark: "right",
      says: 'calls are brought here by "wobbet bring": nothing needs to reach this service',
    }
  if (inaccessible(inlet) && !inaccessible(String(known.channel.settings.apiBase ?? inlet)))
    return {
      about,
      mark: "wrong",
      says: `${new URL(inlet).host} is an address of this machine or its network: no provider reaches it`,
      remedy: `Set WOBBET_PUBLIC_URL to the public address, or develop without one: "wobbet bring" (docs/without-a-public-address.md).`,
    }
  const found = await lookIn(inlet, known.row.key, seal)
  return found.open
    ? { about, mark: "right", says: found.says }
    : { about, mark: "wrong", says: found.says, remedy: found.remedy }
}

/** "The gateway" within a sentence. */
function inside(provider: string): string {
  return provider.replace(/^The /, "the ")
}

function inaccessible(address: string): boolean {
  if (!URL.canParse(address)) return false
  const { hostname } = new URL(address)
  return /^(localhost|127\.|10\.|192\.168\.|172\.(1[6-9]|2\d|3[01])\.|169\.254\.|\[::1\]|\[f[cd])/.test(hostname)
}

/** So many refused calls since the last genuine one, and something is wrong with the genuine ones. */
const someRefused = 3

async function calls(walk: Walk): Promise<CheckLine> {
  const about = "calls"
  const { known, database } = walk
  if (onlySends(walk)) return { about, mark: "right", says: "none are expected: this channel only sends" }
  const { key } = known.row
  const [last, refused, since] = await Promise.all([
    lastCalls(database, key),
    lastRefusal(database, key),
    callsSince(database, key),
  ])
  // Anybody can call an address. Only where genuine ones have stopped coming are those that are refused meant.
  if (since && last.genuine && refused && !refused.verdict.genuine && since.refused > 0 && since.refused < someRefused)
    return {
      about,
      mark: "open",
      says: `the last genuine call came ${ago(last.genuine)}; ${since.refused === 1 ? "one call was" : `${since.refused} calls were`} refused since: ${refused.verdict.why}`,
      remedy:
        "Anybody can call an address, and most such calls are guesses. If messages are missing, read the passage of the last.",
      passage: refused.id,
    }
  if (refused && !refused.verdict.genuine && (!last.genuine || refused.received_at > last.genuine)) {
    const { why, near, remedy } = refused.verdict
    const { profile } = known.row.settings
    const changed = typeof profile === "string" ? await profileChanged(database, profile) : undefined
    // By an earlier profile, or before there was one, it says nothing of calls that come now.
    if (changed && refused.received_at < changed)
      return {
        about,
        mark: "open",
        says: `no call has come since the profile ${profile as string} was written; one was refused before`,
        remedy: "Write to it from a phone, and look again.",
        passage: refused.id,
      }
    return {
      about,
      mark: "wrong",
      says: `the last call, ${ago(refused.received_at)}, was refused: ${why}${near ? `. ${near.replace(/\.$/, "")}` : ""}`,
      remedy,
      passage: refused.id,
    }
  }
  if (last.genuine) {
    const before = last.refused ? `; the last refused one ${ago(last.refused)}` : ""
    return { about, mark: "right", says: `the last genuine call came ${ago(last.genuine)}${before}` }
  }
  return { about, mark: "open", says: "no call has come yet", remedy: "Write to it from a phone, and look again." }
}

async function account({ known, database }: Walk, check: ChannelCheck): Promise<CheckLine> {
  const about = "account"
  const { row } = known
  const [restricted] = check.identity?.restricted ?? []
  if (restricted)
    return {
      about,
      mark: "wrong",
      says: restricted.replace(/\.$/, ""),
      remedy: "Its provider's pages say how that ends.",
    }
  if (isUnaddressed(known.channel))
    return {
      about,
      mark: "wrong",
      says: noReceiver.says,
      remedy: unaddressedRemedy(String(row.settings.profile), row.key),
    }
  if (row.state === "locked out" && !check.resumed)
    return {
      about,
      mark: "wrong",
      says: `nothing is sent: ${row.reason ?? "the channel is locked out"}`,
      remedy: row.remedy ?? `Resume it with "wobbet channel resume ${row.key}".`,
    }
  if (row.state === "paused")
    return {
      about,
      mark: "wrong",
      says: `the channel is paused (${row.reason ?? "by hand"}): what arrives waits; nothing is handled or sent`,
      remedy: row.remedy ?? `Resume it with "wobbet channel resume ${row.key}".`,
    }
  if (hasProfile(known.channel)) {
    const { profile, outbound } = profileOf(known.channel)
    const answers = outbound ? await lastAnswers(database, row.key) : []
    const unread = answers.map((answer) => unreadRefusal(answer, outbound?.answer.refused)).find(Boolean)
    if (unread)
      return {
        about,
        mark: "wrong",
        says: `the gateway answered a message with "${unread.says}", and it counts as sent: the profile ${profile} does not say by what an answer refuses`,
        remedy: `Add to outbound of the profile: answer: { refused: ${JSON.stringify(unread.refused)} }, and send again what was refused.`,
      }
  }
  return { about, mark: "right", says: "nothing keeps it from receiving and sending" }
}

async function bot({ known, database }: Walk): Promise<CheckLine> {
  const about = "bot"
  const { key, bot: wanted, lane } = known.row
  if (await releaseOfChannel(database, key))
    return { about, mark: "right", says: `${wanted ?? "the bot"} answers it, by the lane ${lane}` }
  const lanes = await lanesKnown(database)
  if (lanes.length === 0)
    return {
      about,
      mark: "open",
      says: "no bot has been loaded yet: everything that comes stays unrouted",
      remedy: 'Start the service with "wobbet serve --bot <folder>".',
    }
  const there = [...new Set(lanes.map((one) => `${one.bot} (lane ${one.lane})`))].join(", ")
  return {
    about,
    mark: "wrong",
    says: `nobody answers it: there is no bot ${wanted ? `"${wanted}" ` : ""}on the lane "${lane}"`,
    remedy: `There are: ${there}. Set one with "wobbet channel change ${key} --set bot=… --set lane=…"; left empty, both go back to the usual.`,
  }
}

function ago(at: Date): string {
  const seconds = Math.max(0, Math.round((wallClock("figure").getTime() - at.getTime()) / 1000))
  if (seconds < 90) return `${seconds} s ago`
  if (seconds < 5400) return `${Math.round(seconds / 60)} min ago`
  return seconds < 172_800 ? `${Math.round(seconds / 3600)} h ago` : `${Math.round(seconds / 86_400)} days ago`
}
