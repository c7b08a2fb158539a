import type { InboundCall, InletAnswer } from "../../core/channels/call.ts"
import { echoIn } from "../../core/gateway/learn/sample.ts"
import { keepSample, putSample, sampleOf } from "../../store/samples.ts"
import type { Database } from "../../store/database.ts"
import type { Bell } from "../../store/bell.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Seal } from "../seal.ts"

/** A call to learn from: one that came, or one that was given as a file. */
export interface Sample {
  call: InboundCall
  given: boolean
}

interface Kept {
  calls: (Omit<InboundCall, "body"> & { body: string; given?: boolean })[]
}

/** Checks of the address that are kept beside the calls that were wanted. */
const mostChecks = 3

/** Waiting for calls to learn from. They are kept sealed: nobody knows yet which of their fields is a secret. */
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
    const { database, channels, bell } = this.parts
    const echo = echoIn(call)
    const taken = await keepSample(database, known.row.key, (before, wanted) => {
      const calls = this.opened(before)
      const checks = calls.filter(isCheck).length
      const all = echo !== undefined && checks >= mostChecks ? calls : [...calls, { call, given: false }]
      return { sealed: this.sealed(all), more: all.filter((one) => !isCheck(one)).length < wanted }
    })
    if (taken) {
      await channels.refresh()
      bell.ring("channels")
      bell.ring("live")
    }
    if (echo !== undefined) return { status: 200, headers: { "content-type": "text/plain; charset=utf-8" }, body: echo }
    return { status: 200 }
  }

  /** Keeps samples that were given as files. */
  async put(channel: string, calls: InboundCall[]): Promise<void> {
    await putSample(this.parts.database, channel, this.sealed(calls.map((call) => ({ call, given: true }))))
  }

  /** The samples there are, in the order they came, and when the last did. */
  async samples(channel: string): Promise<{ samples: Sample[]; at: Date } | undefined> {
    const found = await sampleOf(this.parts.database, channel)
    return found && { samples: this.opened(found.sealed), at: found.at }
  }

  private sealed(samples: Sample[]): string {
    const calls = samples.map(({ call, given }) => ({
      ...call,
      body: Buffer.from(call.body).toString("base64"),
      given,
    }))
    return this.parts.seal.seal(JSON.stringify({ calls } satisfies Kept))
  }

  private opened(sealed: string | undefined): Sample[] {
    if (sealed === undefined) return []
    const kept = JSON.parse(this.parts.seal.open(sealed)) as Kept | Kept["calls"][number]
    // Earlier versions kept one call alone.
    const calls = "calls" in kept ? kept.calls : [kept]
    return calls.map(({ given, body, ...call }) => ({
      call: { ...call, body: Buffer.from(body, "base64") },
      given: given === true,
    }))
  }
}

function isCheck({ call }: Sample): boolean {
  return echoIn(call) !== undefined
}
