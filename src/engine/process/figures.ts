import { LRUCache } from "lru-cache"
import type { OpenMetricsContentType } from "prom-client"
import { collectDefaultMetrics, Counter, Gauge, Histogram, Registry } from "prom-client"
import type { Backlog } from "../../store/backlog.ts"
import { backlog } from "../../store/backlog.ts"
import type { Database } from "../../store/database.ts"
import { poolOf } from "../../store/database.ts"
import { timeOf } from "../../store/ids.ts"

/** Seconds: from a hash to a person who takes a day. */
const buckets = [0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 10, 30, 60, 300, 3600, 86_400]

export type CallVerdict = "genuine" | "refused" | "sample"
export type TimedStop = "received" | "verified" | "parsed" | "routed" | "handled" | "sent" | "delivered"

/** The channel something is counted for. */
interface Counted {
  key: string
  kind: string
}

/** Sent messages whose delivery is waited for, so that the time of it can be told. */
const mostAwaited = 20_000

/**
 * What this process counts about its own work, in OpenMetrics. Labels take few values each: a channel, its kind, a
 * verdict, an outcome, a stop; never a place, a person, a release or anything that was said.
 */
export class Figures {
  private readonly registry = new Registry<OpenMetricsContentType>()
  private readonly registers = [this.registry]
  private readonly calls = new Counter({
    name: "wobbet_calls_total",
    help: "Calls that came to inlets, by what they were found to be",
    labelNames: ["channel", "kind", "verdict"] as const,
    registers: this.registers,
  })
  private readonly messages = new Counter({
    name: "wobbet_messages_received_total",
    help: "Messages that genuine calls brought, those that came twice too",
    labelNames: ["channel", "kind"] as const,
    registers: this.registers,
  })
  private readonly turns = new Counter({
    name: "wobbet_turns_total",
    help: "Turns that ended, by their outcome",
    labelNames: ["outcome"] as const,
    registers: this.registers,
  })
  private readonly attempts = new Counter({
    name: "wobbet_attempts_total",
    help: "Calls made to providers for messages, by what came of them",
    labelNames: ["channel", "kind", "outcome"] as const,
    registers: this.registers,
  })
  private readonly stops = new Histogram({
    name: "wobbet_stop_seconds",
    help: "Seconds until a stop was reached: received, from the call to its being durable; verified and parsed, the work itself; routed, the wait for the turn; handled, the turn; sent, the provider's call; delivered, from then to the provider's word",
    labelNames: ["stop"] as const,
    buckets,
    registers: this.registers,
  })
  private readonly askedElsewhere = new Histogram({
    name: "wobbet_endpoint_seconds",
    help: "Seconds that calls to endpoints of bots took, by what came of them",
    labelNames: ["came"] as const,
    buckets,
    registers: this.registers,
  })
  /** How this process finds the endpoints it asks. */
  endpoints: () => { address: string; state: string }[] = () => []
  private writing: Promise<void> = Promise.resolve()
  private readonly awaited = new LRUCache<string, number>({ max: mostAwaited })
  private readonly callCounters = new Map<string, () => void>()

  constructor(
    private readonly parts: {
      reading: Database
      database: Database
      /** How many processes run handlers at the moment. */
      hosts: () => number
      /** Bytes of calls' bodies under way. */
      bodies: () => number
    },
  ) {
    collectDefaultMetrics({ register: this.registry as never })
    // Gauges that are named as counters are.
    for (const name of ["nodejs_active_handles_total", "nodejs_active_requests_total", "nodejs_active_resources_total"])
      this.registry.removeSingleMetric(name)
    this.gauges()
  }

  /** All figures as text: OpenMetrics, or the form that was there before it. */
  async text(open: boolean): Promise<{ type: string; text: string }> {
    // The form belongs to the whole registry: one is written at a time.
    const before = this.writing
    let done = () => {}
    this.writing = new Promise((resolve) => (done = resolve))
    await before
    try {
      const type = open ? Registry.OPENMETRICS_CONTENT_TYPE : Registry.PROMETHEUS_CONTENT_TYPE
      this.registry.setContentType(type as OpenMetricsContentType)
      return { type, text: await this.registry.metrics() }
    } finally {
      done()
    }
  }

  called({ key, kind }: Counted, verdict: CallVerdict): void {
    let counter = this.callCounters.get(`${key} ${verdict}`)
    if (!counter) {
      const child = this.calls.labels({ channel: key, kind, verdict })
      this.callCounters.set(`${key} ${verdict}`, (counter = () => child.inc()))
    }
    counter()
  }

  received({ key, kind }: Counted, count: number): void {
    if (count > 0) this.messages.inc({ channel: key, kind }, count)
  }

  turned(outcome: string): void {
    this.turns.inc({ outcome })
  }

  /** @param milliseconds that a call to an endpoint took */
  asked(came: string, milliseconds: number): void {
    this.askedElsewhere.observe({ came }, milliseconds / 1000)
  }

  attempted({ key, kind }: Counted, outcome: string): void {
    this.attempts.inc({ channel: key, kind, outcome })
  }

  /** @param milliseconds it took */
  reached(stop: TimedStop, milliseconds: number): void {
    this.stops.observe({ stop }, Math.max(0, milliseconds) / 1000)
  }

  /** How long a message waited for its turn, by when its id was made. */
  routed(message: string, startedAt: Date): void {
    const came = timeOf(message)
    if (came) this.reached("routed", startedAt.getTime() - came.getTime())
  }

  /** A provider has taken a message, and will tell of its delivery under this id. */
  awaits(channel: string, providerId: string): void {
    this.awaited.set(`${channel} ${providerId}`, performance.now())
  }

  delivered(channel: string, providerId: string): void {
    const sent = this.awaited.get(`${channel} ${providerId}`)
    if (sent === undefined) return
    this.awaited.delete(`${channel} ${providerId}`)
    this.reached("delivered", performance.now() - sent)
  }

  /** What is looked up when somebody asks. */
  private gauges(): void {
    const { registers, parts } = this
    let looked: Promise<Backlog | undefined> | undefined
    // Asked once for all of them.
    const look = () => {
      looked ??= backlog(parts.reading).catch(() => undefined)
      setImmediate(() => (looked = undefined))
      return looked
    }
    const gauge = (
      name: string,
      help: string,
      tell: (found: Backlog, told: Gauge) => void,
      labelNames: string[] = [],
    ) =>
      new Gauge({
        name,
        help,
        labelNames,
        registers,
        async collect() {
          const found = await look()
          this.reset()
          if (found) tell(found, this)
        },
      })
    new Gauge({
      name: "wobbet_database_up",
      help: "Whether the database answers",
      registers,
      async collect() {
        this.set((await look()) ? 1 : 0)
      },
    })
    gauge("wobbet_lines_due", "Conversations with something to do", (found, told) => told.set(found.lines))
    gauge(
      "wobbet_outbox_messages",
      "Messages that wait to be taken by the provider",
      (found, told) => found.outbox.forEach(({ channel, kind, waiting }) => told.set({ channel, kind }, waiting)),
      ["channel", "kind"],
    )
    gauge(
      "wobbet_doubts",
      "Messages of which nobody knows yet whether the provider took them",
      (found, told) => found.outbox.forEach(({ channel, kind, doubts }) => told.set({ channel, kind }, doubts)),
      ["channel", "kind"],
    )
    gauge(
      "wobbet_parked",
      "What waits for a person's decision",
      (found, told) => found.outbox.forEach(({ channel, kind, parked }) => told.set({ channel, kind }, parked)),
      ["channel", "kind"],
    )
    gauge(
      "wobbet_channels_stopped",
      "Whether a channel is paused or locked out",
      (found, told) => found.outbox.forEach(({ channel, kind, on }) => told.set({ channel, kind }, on ? 0 : 1)),
      ["channel", "kind"],
    )
    gauge(
      "wobbet_turns_waiting",
      "Turns that wait for an answer from elsewhere; of queues, those that nobody has leased",
      (found, told) => found.waits.forEach(({ kind, queue, waiting }) => told.set({ kind, queue }, waiting)),
      ["kind", "queue"],
    )
    gauge(
      "wobbet_turns_leased",
      "Turns that workers hold",
      (found, told) => found.waits.forEach(({ queue, leased }) => queue !== "" && told.set({ queue }, leased)),
      ["queue"],
    )
    gauge(
      "wobbet_turns_waiting_oldest_seconds",
      "How long the oldest of them has waited",
      (found, told) => found.waits.forEach(({ kind, queue, oldest }) => told.set({ kind, queue }, oldest)),
      ["kind", "queue"],
    )
    const endpoints = () => this.endpoints()
    new Gauge({
      name: "wobbet_endpoint_open",
      help: "Whether this process leaves an endpoint alone because it fails: 1 open, 0.5 half-open, 0 closed",
      labelNames: ["endpoint"],
      registers,
      collect() {
        this.reset()
        for (const { address, state } of endpoints()) {
          const { origin, pathname } = new URL(address)
          this.set({ endpoint: origin + pathname }, state === "open" ? 1 : state === "half-open" ? 0.5 : 0)
        }
      },
    })
    this.own("wobbet_hosts", "Processes that run handlers", parts.hosts)
    this.own("wobbet_bodies_bytes", "Bytes of calls' bodies under way", parts.bodies)
    const used = (database: Database) => () => poolOf(database)
    for (const [name, of] of [
      ["messages", used(parts.database)],
      ["lists", used(parts.reading)],
    ] as const) {
      this.own(`wobbet_pool_${name}_used`, `Database connections for ${name} in use`, () => of().used)
      this.own(`wobbet_pool_${name}_waiting`, `Statements that wait for a connection for ${name}`, () => of().waiting)
    }
  }

  private own(name: string, help: string, tell: () => number): void {
    new Gauge({
      name,
      help,
      registers: this.registers,
      collect() {
        this.set(tell())
      },
    })
  }
}
