import pg from "pg"

export type Ring = "work" | "sends" | "channels" | "lanes" | "live" | "brought"

/**
 * Wakes every process: `LISTEN/NOTIFY` on a connection of its own, empty and coalesced. Only a saving of time: what is
 * missed, because a pooling proxy stands in between or the connection broke, is found by the sweeps.
 */
export class Bell {
  private client: pg.Client | undefined
  private readonly listeners = new Map<Ring, Set<() => void>>()
  private readonly pending = new Set<Ring>()
  private timer: NodeJS.Timeout | undefined
  private stopped = false

  constructor(private readonly url: string) {}

  async start(): Promise<void> {
    if (this.stopped) return
    const client = new pg.Client({ connectionString: this.url, application_name: "wobbet bell" })
    const again = () => {
      if (this.client !== client) return
      this.client = undefined
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
    } catch {
      again()
    }
  }

  on(ring: Ring, listener: () => void): () => void {
    const set = this.listeners.get(ring) ?? new Set()
    this.listeners.set(ring, set.add(listener))
    return () => set.delete(listener)
  }

  /** Tells all processes, this one included, at most every 40 milliseconds. */
  ring(ring: Ring): void {
    this.pending.add(ring)
    this.timer ??= setTimeout(() => {
      this.timer = undefined
      const payload = [...this.pending].join(",")
      this.pending.clear()
      this.client?.query("SELECT pg_notify('wobbet', $1)", [payload]).catch(() => undefined)
    }, 40)
  }

  async stop(): Promise<void> {
    this.stopped = true
    clearTimeout(this.timer)
    const client = this.client
    this.client = undefined
    await client?.end().catch(() => undefined)
  }
}
