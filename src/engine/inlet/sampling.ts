import type { InboundCall, InletAnswer } from "../../core/channels/call.ts"
import { echoIn } from "../../core/gateway/learn.ts"
import { keepSample, sampleOf } from "../../store/samples.ts"
import type { Database } from "../../store/database.ts"
import type { Bell } from "../../store/bell.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Seal } from "../seal.ts"

/** Waiting for one call to learn from. The call is kept sealed: nobody knows yet which of its fields is a secret. */
export class Sampling {
  constructor(private readonly parts: { database: Database; channels: Channels; seal: Seal; bell: Bell }) {}

  isOn({ row }: KnownChannel, now: Date): boolean {
    return row.learning !== null && Date.parse(row.learning.until) > now.getTime()
  }

  /**
   * Takes the call. A gateway that checks the address first gets back what it wants to hear, and the message is waited
   * for still.
   */
  async take(known: KnownChannel, call: InboundCall): Promise<InletAnswer> {
    const { database, channels, seal, bell } = this.parts
    const echo = echoIn(call)
    if (echo !== undefined) return { status: 200, headers: { "content-type": "text/plain; charset=utf-8" }, body: echo }
    const sample = { ...call, body: Buffer.from(call.body).toString("base64") }
    if (await keepSample(database, known.row.key, seal.seal(JSON.stringify(sample)))) {
      await channels.refresh()
      bell.ring("channels")
      bell.ring("live")
    }
    return { status: 200 }
  }

  async sample(channel: string): Promise<{ call: InboundCall; at: Date } | undefined> {
    const found = await sampleOf(this.parts.database, channel)
    if (!found) return undefined
    const call = JSON.parse(this.parts.seal.open(found.sealed)) as Omit<InboundCall, "body"> & { body: string }
    return { call: { ...call, body: Buffer.from(call.body, "base64") }, at: found.at }
  }
}
