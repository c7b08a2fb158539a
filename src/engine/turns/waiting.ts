import type { AskedTurn, HowAsked } from "../../core/elsewhere/asked.ts"
import type { HandlerName } from "../../core/routing/handlerName.ts"
import type { Slots } from "../../core/routing/finding.ts"
import type { Database } from "../../store/database.ts"
import type { PendingMessage } from "../../store/lines.ts"
import type { Claim } from "../../store/onces.ts"
import { saidBefore } from "../../store/messages.ts"
import type { ElsewhereCall, ElsewhereNote } from "../../core/elsewhere/note.ts"
import { storableJson } from "../../core/message/graphemes.ts"
import { sentAs } from "../../store/outbox.ts"
import type { WaitAnswer, WaitChange, WaitRow } from "../../store/waits.ts"
import { waitOf } from "../../store/waits.ts"
import type { Caller } from "../elsewhere/caller.ts"
import type { Asking, HandlerAnswer, TurnInput, WaitsFor } from "../handlers/handler.ts"

/** What a turn that waits is, so that it continues as it began: kept with its wait. */
export interface KeptTurn<SoFar> {
  /** The turn's id over all its runs. */
  id: string
  handler: HandlerName
  route?: string | undefined
  slots: Slots
  /** Set where a question stands that it is aside of. */
  aside?: true
  /** What it had come to before. */
  soFar?: SoFar
  /** The ids of its messages, and of what was said early. */
  messages: string[]
  told: string[]
  /** How an endpoint is asked. */
  how?: HowAsked
  /** What was said early, where it grows into the answer. */
  draft?: string
}

/** How a turn stands that waits or waited. */
export interface Standing<SoFar> {
  /** Undefined where an answer came before its wait was on record. */
  kept: KeptTurn<SoFar> | undefined
  row: WaitRow
  /** What came, or that its time is over; undefined where it was only looked at. */
  came: WaitAnswer | undefined
  /** The provider's id of what grows into the answer, or that it has none yet. */
  draft?: string
}

/** How the turn of these messages stands, where it waits or its answer is there. */
export async function standingOf<SoFar>(
  database: Database,
  conversation: string,
  group: PendingMessage[],
): Promise<Standing<SoFar> | undefined> {
  const row = await waitOf(database, conversation)
  if (!row || row.message !== group[0]!.id) return undefined
  const over = row.left !== null && row.left <= 0
  const came = row.answer ?? (over ? { fails: noAnswer(row) } : undefined)
  const kept = (row.turn as KeptTurn<SoFar> | null) ?? undefined
  const draft = came && kept?.draft !== undefined ? await sentAs(database, kept.draft) : undefined
  return { kept, row, came, ...(draft === undefined ? {} : { draft }) }
}

function noAnswer({ kind, place, leases, calls }: WaitRow): string {
  if (kind === "queue") {
    const leased = leases === 0 ? "nobody leased it" : `it was leased ${leases === 1 ? "once" : `${leases} times`}`
    return `no answer came in time from the queue "${place}": ${leased}`
  }
  const last = calls.at(-1)
  return `no answer came in time from the ${kind}${last ? `; its last call: ${last.came}` : ""}`
}

/** Who is asked elsewhere about a turn, and what is told of it. */
export function askingOf(
  parts: { database: Database; caller: Caller },
  turn: {
    input: TurnInput
    /** The first message. */
    message: string
    position: number
    /** How often it was left from route to route before. */
    leg: number
    fields: { [field: string]: unknown }
    about: Pick<AskedTurn, "bot" | "lane" | "route" | "release">
    trial: boolean
    claim: Claim
    /** Where the last of its messages stands. */
    to: number
    standing: Standing<unknown> | undefined
  },
): Asking {
  const { input, message, position, leg, fields, about, trial, standing, claim, to } = turn
  const asked = async (history: number): Promise<AskedTurn> => {
    const { again: _again, contact, ...rest } = input
    const said =
      history > 0 ? { history: await saidBefore(parts.database, rest.conversation.id, position, history) } : {}
    const id = `${message}.${position}.${leg}`
    return { id, ...about, ...rest, contact: { ...contact, fields }, ...said, ...(trial ? { trial: true } : {}) }
  }
  const { came, draft } = standing ?? {}
  const called =
    (kind: "endpoint" | "model"): Asking["endpoint"] =>
    async (how, { within, history }) => {
      const told = await asked(history)
      const came = await parts.caller.ask({ how, turn: told, message, position, leg, within, claim, to })
      if ("answer" in came) return came
      const { waits, calls } = came
      return { waits: { kind, place: how.address, asked: told, within, how, ...waits }, calls }
    }
  return {
    ...(standing ? { standing: { ...(came ? { came } : {}), ...(draft === undefined ? {} : { draft }) } } : {}),
    endpoint: called("endpoint"),
    model: called("model"),
    async queue(name, { within, history }) {
      return { kind: "queue", place: name, asked: await asked(history), within, due: 0, leases: 0 }
    },
  }
}

/** A turn that is to wait, as it is kept. */
export function waitChange(
  waits: WaitsFor,
  of: Pick<WaitChange, "conversation" | "message" | "position" | "leg" | "bot" | "lane" | "channel">,
  turn: KeptTurn<unknown>,
  calls: ElsewhereCall[],
  self: string,
): WaitChange {
  const { kind, place, asked, within, due, lease, leases } = waits
  return { ...of, kind, place, turn, asked, within, due, lease, leasedBy: lease && self, leases, calls }
}

/**
 * What of its waiting stands on record with a turn.
 *
 * @param before what stands there of the routes it was left from
 */
export function recordOfWait(
  standing: Standing<unknown> | undefined,
  answer: HandlerAnswer | undefined,
  before?: unknown,
): { elsewhere?: ElsewhereNote } {
  const earlier = (before as ElsewhereNote | undefined)?.calls ?? []
  const calls = [...earlier, ...(standing?.row.calls ?? []), ...(answer?.calls ?? [])]
  const { kind, place, since, until } = standing?.row ?? {}
  const waited = kind ? { kind, place: place!, since: since!.toISOString(), until: until!.toISOString() } : undefined
  const { instead } = answer ?? {}
  if (calls.length === 0 && !waited && instead === undefined) return {}
  return {
    elsewhere: storableJson({ calls, ...(waited ? { waited } : {}), ...(instead === undefined ? {} : { instead }) }),
  }
}
