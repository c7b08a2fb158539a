import type { PresenceDifference, Presence } from "../../core/channels/presence.ts"
import { fitted, presenceDifferences } from "../../core/channels/presence.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Database } from "../../store/database.ts"
import { releaseById, releaseOfChannel } from "../../store/releases.ts"
import { judged, perform } from "../calls/perform.ts"
import type { KnownChannel } from "../channels.ts"

/** What people see of the bot at the provider, against what its folder wants. */
export interface PresenceView {
  differences: PresenceDifference[]
  /** What was set just now. */
  set?: string[]
  fault?: string
}

/** Compares, and sets what differs where asked to; undefined where the bot says nothing of it, or the kind has no such. */
export async function comparePresence(
  database: Database,
  known: KnownChannel,
  set: boolean,
): Promise<PresenceView | undefined> {
  const { presenting } = kindOf(known.row.kind)
  const wish = presenting && (await wantedFor(database, known))
  if (!presenting || !wish) return undefined
  const wanted = fitted(wish, presenting)
  const before = await readNow(known)
  if (typeof before === "string") return { differences: [], fault: before }
  const differences = presenceDifferences(wanted, before, presenting)
  const fields = differences.filter((one) => one.byHand === undefined).map((one) => one.field)
  if (!set || fields.length === 0) return { differences }
  for (const call of presenting.set(wanted, fields, known.channel)) {
    const outcome = judged(call, await perform(call, known.channel, undefined), known.channel)
    if (outcome.outcome !== "accepted")
      return { differences, fault: `${call.name}: ${"why" in outcome ? outcome.why : "it was not taken"}` }
  }
  return { differences: differences.filter((one) => one.byHand !== undefined), set: fields }
}

async function wantedFor(database: Database, { row }: KnownChannel): Promise<Presence | undefined> {
  const id = await releaseOfChannel(database, row.key)
  const release = id ? await releaseById(database, id) : undefined
  return release?.definition.account
}

async function readNow({ row, channel }: KnownChannel): Promise<Presence | string> {
  const presenting = kindOf(row.kind).presenting!
  const answers = await Promise.all(presenting.ask(channel).map((call) => perform(call, channel, undefined)))
  return presenting.read(answers) ?? "the provider did not tell what is set now"
}
