import { setTimeout as pause } from "node:timers/promises"
import pg from "pg"

export type Ring =
  | "work"
  | "sends"
  | "channels"
  | "lanes"
  | "live"
  | "people"
  | "brought"
  | "visitors"
  | "secrets"
  | "queues"
  | "notices"
  | "relays"

/**
 * Wakes every process: `LISTEN/NOTIFY` on a connection of its own, empty and coalesced. Only a saving of time: what is
 * missed, because a pooling proxy stands in between or the connection broke, is found by the sweeps.
 */
export class Bell {
  private client: pg.Client | undefined
  private readonly listeners = new Map<Ring, Set<() => unknown>>()
  private readonly pending = new Set<Ring>()
  private timer: NodeJS.Timeout | undefined
  private pulse: NodeJS.Timeout | undefined
  private stopped = false

  /** Whether there was no connection for a while, so that rings may have been missed. */
  private missed = false

  constructor(private readonly url: string) {}

  async start(): Promise<void> {
    if (this.stopped) return
    const client = new pg.Client({
      connectionString: this.url,
      application_name: "wobbet bell",
      connectionTimeoutMillis: 5000,
      keepAlive: true,
    })
    const again = () => {
      if (this.client !== client) return
      this.client = undefined
      this.missed = true
      if (!this.stopped) setTimeout(() => void this.start(), 1000).unref()
    }
    client.on("error", again)
    client.on("end", again)
    client.on("notification", ({ payload }) => {
      for (const ring of (payload ?? "").split(",") as Ring[])
        this.listeners.get(ring)?.forEach((listener) => listener())
    })
    this.client = client
    try {
      await client.connect()
      await client.query("LISTEN wobbet")
      this.watch(client, again)
      this.catchUp()
    } catch {
      again()
    }
  }

  /** Nobody was heard, and nobody was told, while there was no connection. */
  private catchUp(): void {
    if (this.missed) for (const listeners of this.listeners.values()) listeners.forEach((listener) => listener())
    this.missed = false
    this.tellPending()
  }

  /** What cannot be told now is told as soon as there is a connection again. */
  private tellPending(): void {
    const { client } = this
    if (!client || this.pending.size === 0) return
    const rings = [...this.pending]
    this.pending.clear()
    tell(client, rings).catch(() => rings.forEach((ring) => this.pending.add(ring)))
  }

  on(ring: Ring, listener: () => unknown): () => void {
    const set = this.listeners.get(ring) ?? new Set()
    this.listeners.set(ring, set.add(listener))
    return () => set.delete(listener)
  }

  /** Tells all processes, this one included, at most every 40 milliseconds. */
  ring(ring: Ring): void {
    this.pending.add(ring)
    this.timer ??= setTimeout(() => {
      this.timer = undefined
      this.tellPending()
    }, 40)
  }

  /** Tells this process, waits until it has done what follows from that, and tells all others as `ring` does. */
  async ringHereFirst(ring: Ring): Promise<void> {
    await Promise.all([...(this.listeners.get(ring) ?? [])].map((listener) => listener()))
    this.ring(ring)
  }

  /** Ends, once what was rung last is told. */
  async stop(): Promise<void> {
    this.stopped = true
    clearTimeout(this.timer)
    clearInterval(this.pulse)
    const { client } = this
    this.client = undefined
    if (!client) return
    const told = this.pending.size > 0 ? tell(client, [...this.pending]) : Promise.resolve()
    // A server that hangs keeps nobody from ending.
    await Promise.race([told.then(() => client.end()).catch(() => undefined), pause(1000, undefined, { ref: false })])
  }

  /** A connection that the network has swallowed is found out and made again: nothing is heard on it, and nobody is told. */
  private watch(client: pg.Client, lost: () => void): void {
    clearInterval(this.pulse)
    this.pulse = setInterval(() => {
      const late = setTimeout(() => {
        lost()
        client.end().catch(() => undefined)
      }, 5000)
      client
        .query("SELECT 1")
        .catch(() => undefined)
        .finally(() => clearTimeout(late))
    }, 15_000)
    this.pulse.unref()
  }
}

async function tell(client: pg.Client, rings: Ring[]): Promise<void> {
  await client.query("SELECT pg_notify('wobbet', $1)", [rings.join(",")])
}
