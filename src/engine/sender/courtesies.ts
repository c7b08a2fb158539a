import type { Logger } from "pino"
import type { OutgoingCall } from "../../core/channels/call.ts"
import type { Database } from "../../store/database.ts"
import { keepCourtesies } from "../../store/messages.ts"
import { judged, keepable, perform } from "../calls/perform.ts"
import type { KnownChannel } from "../channels.ts"
import { wallClock } from "../process/wallClock.ts"

/** Calls that tell the provider a message was taken up. Made once and recorded; nothing waits for them. */
export class Courtesies {
  constructor(private readonly parts: { database: Database; log: Logger }) {}

  make(message: string, known: KnownChannel, address: string, calls: OutgoingCall[]): void {
    this.makeAll(message, known, address, calls).catch((error: unknown) =>
      this.parts.log.warn({ err: error }, "a courtesy call could not be recorded"),
    )
  }

  private async makeAll(message: string, known: KnownChannel, address: string, calls: OutgoingCall[]): Promise<void> {
    const made = []
    for (const [at, call] of calls.entries()) {
      const startedAt = wallClock("record")
      const answer = await perform(call, known.channel, address)
      const outcome = judged(call, answer, known.channel)
      made.push({
        message,
        attempt: at + 1,
        name: call.name,
        startedAt,
        outcome: outcome.outcome,
        ...("why" in outcome ? { why: outcome.why } : {}),
        ...("status" in answer ? { status: answer.status, answer: keepable(answer.body, known.channel) } : {}),
      })
    }
    await keepCourtesies(this.parts.database, made)
  }
}
