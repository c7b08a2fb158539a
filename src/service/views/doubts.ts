import type { Doubt } from "../../client/types.ts"
import type { Database } from "../../store/database.ts"
import type { AttemptRow, MessageRow } from "../../store/messages.ts"
import { attemptsOf } from "../../store/messages.ts"
import type { ParkedRow } from "../../store/parked.ts"
import { parkedOfMessages } from "../../store/parked.ts"

/** What is known of sends of which it was open whether the provider took them, and what was decided; by message. */
export async function doubtsOf(database: Database, rows: MessageRow[]): Promise<Map<string, Doubt>> {
  const ids = rows.filter((row) => row.doubtful).map((row) => row.id)
  if (ids.length === 0) return new Map()
  const [attempts, parked] = await Promise.all([attemptsOf(database, ids), parkedOfMessages(database, ids)])
  const found = ids.map((id): [string, Doubt | undefined] => [
    id,
    doubtIn(
      attempts.filter((attempt) => attempt.message === id),
      parked.filter((one) => one.message === id),
    ),
  ])
  return new Map(found.filter((one): one is [string, Doubt] => one[1] !== undefined))
}

/** From a message's attempts and what was parked of it, both in their order. */
export function doubtIn(attempts: AttemptRow[], parked: ParkedRow[]): Doubt | undefined {
  const unclear = attempts.findLast((attempt) => attempt.outcome === "unclear")
  if (!unclear) return undefined
  const known = `attempt ${unclear.attempt} (${unclear.name}) was begun, and ${unclear.why ?? "no answer came"}`
  return { at: unclear.startedAt.toISOString(), known, ...decided(unclear, attempts, parked) }
}

function decided(unclear: AttemptRow, attempts: AttemptRow[], parked: ParkedRow[]): Pick<Doubt, "decided" | "open"> {
  const item = parked.findLast((one) => one.cause === "doubt")
  const later = attempts.findLast((attempt) => attempt.attempt > unclear.attempt)
  const again = later ? `attempt ${later.attempt} ${ending(later.outcome)}` : "it stands in its line"
  if (!item) return { decided: `sent again (onDoubt: resend), and ${again}`, open: false }
  if (!item.decision) return { decided: "parked (onDoubt: park), until a person decides", open: true }
  const words: { [decision: string]: string } = {
    retry: `to send it again: ${again}`,
    drop: "to leave it",
    edit: "to send other words",
  }
  return { decided: `${item.decidedBy ?? "somebody"} chose ${words[item.decision] ?? item.decision}`, open: false }
}

function ending(outcome: string | null): string {
  if (outcome === null) return "is under way"
  return outcome === "accepted" ? "was taken" : `ended as ${outcome}`
}
