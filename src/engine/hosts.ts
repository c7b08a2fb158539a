import type { ChildProcess } from "node:child_process"
import { fork } from "node:child_process"
import { readFileSync } from "node:fs"
import type { FromHost, HostError, ToHost, TurnInput } from "./hostProtocol.ts"

/** What a code handler answered, unchecked, and what it printed. */
export interface HandlerAnswer {
  outcome: { replies?: unknown[]; state?: { [field: string]: unknown } | null }
  log: string[]
}

/** A handler that did not answer as it should. With what it printed. */
export class HandlerFault extends Error {
  constructor(
    readonly error: HostError,
    readonly log: string[] = [],
  ) {
    super(`${error.name}: ${error.message}`)
  }
}

interface Run {
  id: number
  handler: string
  turn: TurnInput
  deadline: number
  done: (answer: HandlerAnswer) => void
  fail: (fault: HandlerFault) => void
  timer?: NodeJS.Timeout
}

export interface HostLimits {
  hosts: number
  /** Megabytes of a host's heap; the whole process may take twice as much. */
  memory: number
  /** Milliseconds without a sign of life before a host counts as stuck. */
  stuckAfter: number
}

export const hostLimits: HostLimits = { hosts: 2, memory: 256, stuckAfter: 2500 }

/**
 * The hosts of one release. When one is stuck or out of memory it is killed; whoever was running in it runs again, each
 * in a host of its own, so that the one to blame is found beyond doubt and only its own conversation notices.
 */
export class HostPool {
  private readonly hosts: Host[] = []
  private next = 1
  private closed = false

  constructor(
    private readonly script: string,
    private readonly bundle: string,
    private readonly limits: HostLimits = hostLimits,
  ) {}

  run(handler: string, turn: TurnInput, deadline: number): Promise<HandlerAnswer> {
    return new Promise((done, fail) => {
      const run: Run = { id: this.next++, handler, turn, deadline, done, fail }
      this.pick().begin(run)
    })
  }

  /** Loads the bundle in a host, to see whether it loads at all. */
  async check(): Promise<HostError | undefined> {
    return this.pick().ready
  }

  get busy(): number {
    return this.hosts.reduce((sum, host) => sum + host.runs.size, 0)
  }

  /** Ends the hosts once nothing runs in them. */
  async close(): Promise<void> {
    this.closed = true
    while (this.busy > 0) await new Promise((resolve) => setTimeout(resolve, 50))
    this.hosts.splice(0).forEach((host) => host.end())
  }

  private pick(): Host {
    if (this.hosts.length < this.limits.hosts && this.hosts.every((host) => host.runs.size > 0)) {
      this.hosts.push(this.make(false))
    }
    return this.hosts.reduce((least, host) => (host.runs.size < least.runs.size ? host : least))
  }

  private make(quarantine: boolean): Host {
    const leave = (host: Host) => {
      const at = this.hosts.indexOf(host)
      if (at !== -1) this.hosts.splice(at, 1)
    }
    return new Host(this.script, this.bundle, this.limits, leave, (host, reason, runs) => {
      leave(host)
      // In a host that still holds a handler whose time is over, that one may be to blame: whoever is there runs again.
      if ((runs.length === 1 && !host.overrun) || quarantine) {
        runs.forEach((run) => run.fail(new HandlerFault({ name: "HandlerStopped", message: reason })))
      } else {
        void this.runEachAlone(runs)
      }
    })
  }

  private async runEachAlone(runs: Run[]): Promise<void> {
    const waiting = [...runs]
    const line = async () => {
      for (let run = waiting.shift(); run; run = waiting.shift()) await this.runAlone(run)
    }
    await Promise.all(Array.from({ length: quarantines }, line))
  }

  private async runAlone(run: Run): Promise<void> {
    const host = this.make(true)
    await new Promise<void>((resolve) => {
      host.begin({
        ...run,
        turn: { ...run.turn, again: true },
        done: (answer) => (run.done(answer), resolve()),
        fail: (fault) => (run.fail(fault), resolve()),
      })
    })
    if (!this.closed) host.end()
  }
}

/** Hosts for one run each, at once: one after the other, fifty slow handlers would wait a minute for a stuck one. */
const quarantines = 8

const tooMuchMemory = "the handler used more memory than a host may have"
const loopNeverEnds = "the handler's loop never ends: it gave no sign of life"

class Host {
  readonly runs = new Map<number, Run>()
  readonly ready: Promise<HostError | undefined>
  private readonly child: ChildProcess
  private readonly orders: ToHost[] = []
  private lastSign = Date.now()
  private readonly watch: NodeJS.Timeout
  private ended = false
  /** Set once a handler in it did not answer in time: it cannot be stopped, so its host takes no more, and goes. */
  overrun = false

  constructor(
    script: string,
    bundle: string,
    private readonly limits: HostLimits,
    private readonly retired: (host: Host) => void,
    private readonly lost: (host: Host, reason: string, runs: Run[]) => void,
  ) {
    this.child = fork(script, [String(process.pid)], {
      // Nothing of the service's environment: it holds secrets.
      env: { PATH: process.env.PATH ?? "", TZ: process.env.TZ ?? "", LANG: "C.UTF-8" },
      execArgv: ["--enable-source-maps", `--max-old-space-size=${limits.memory}`],
      stdio: ["ignore", "ignore", "ignore", "ipc"],
    })
    this.ready = new Promise((resolve) => {
      this.child.on("message", (said: FromHost[]) => {
        this.lastSign = Date.now()
        for (const words of said) {
          if (words.say === "loaded") resolve(undefined)
          else if (words.say === "broken") resolve(words.error)
          else this.hear(words)
        }
      })
      this.child.on("exit", () => {
        resolve({ name: "HostEnded", message: "the host ended while it loaded the handlers" })
        this.gone("the handler used more memory than a host may have, or ended its process")
      })
      this.child.on("error", () => this.gone("the handler's host could not be started"))
    })
    this.tell({ say: "load", file: bundle })
    this.watch = setInterval(() => this.look(), 500)
    this.watch.unref()
  }

  begin(run: Run): void {
    this.runs.set(run.id, run)
    void this.ready.then((broken) => {
      if (!this.runs.has(run.id)) return
      if (broken) {
        this.runs.delete(run.id)
        run.fail(new HandlerFault(broken))
        return
      }
      this.lastSign = Math.max(this.lastSign, Date.now())
      run.timer = setTimeout(() => {
        // A host that awaits answers pings; one that does not is stuck, and whoever runs in it with it.
        if (Date.now() - this.lastSign > 1200) return this.kill(loopNeverEnds)
        if (!this.runs.delete(run.id)) return
        const message = `the handler "${run.handler}" did not answer within ${run.deadline / 1000} s`
        this.overrun = true
        this.retired(this)
        run.fail(new HandlerFault({ name: "DeadlinePassed", message }))
        this.leaveWhenEmpty()
      }, run.deadline)
      this.tell({ say: "run", id: run.id, handler: run.handler, turn: withoutTwice(run.turn) })
    })
  }

  end(): void {
    this.ended = true
    clearInterval(this.watch)
    this.child.removeAllListeners()
    this.child.on("error", () => undefined)
    this.child.kill("SIGKILL")
  }

  private hear(words: FromHost): void {
    if (words.say === "pong") {
      if (words.memory > this.limits.memory * 2 * 1024 * 1024) this.kill(tooMuchMemory)
      return
    }
    if (words.say !== "done" && words.say !== "threw") return
    const run = this.runs.get(words.id)
    if (!run) return
    this.runs.delete(words.id)
    clearTimeout(run.timer)
    if (words.say === "done") run.done({ outcome: words.outcome as HandlerAnswer["outcome"], log: words.log })
    else run.fail(new HandlerFault(words.error, words.log))
    this.leaveWhenEmpty()
  }

  private leaveWhenEmpty(): void {
    if (this.overrun && this.runs.size === 0 && !this.ended) this.end()
  }

  /** A host that answers no ping has a loop that never ends. */
  private look(): void {
    if (this.runs.size === 0) {
      this.lastSign = Date.now()
      return
    }
    if (Date.now() - this.lastSign > this.limits.stuckAfter) this.kill(loopNeverEnds)
    else this.tell({ say: "ping", at: Date.now() })
  }

  private kill(reason: string): void {
    // At its limit a host does nothing but look for memory, and gives no sign of life either.
    const full = reason === loopNeverEnds && this.resident() > this.limits.memory
    this.child.kill("SIGKILL")
    this.gone(full ? tooMuchMemory : reason)
  }

  /** Megabytes the host's process holds, where the system tells (proc(5), pages of 4 kB). */
  private resident(): number {
    try {
      return Number(readFileSync(`/proc/${this.child.pid}/statm`, "utf8").split(" ")[1]) / 256
    } catch {
      return 0
    }
  }

  private gone(reason: string): void {
    if (this.ended) return
    this.end()
    const runs = [...this.runs.values()]
    this.runs.clear()
    runs.forEach((run) => clearTimeout(run.timer))
    this.lost(this, reason, runs)
  }

  /** What is told within one turn of the event loop goes as one message. */
  private tell(words: ToHost): void {
    if (this.orders.push(words) > 1) return
    setImmediate(() => {
      const orders = this.orders.splice(0)
      if (this.child.connected) this.child.send(orders, () => undefined)
    })
  }
}

/** Most turns are about one message: it is written and read once. */
function withoutTwice(turn: TurnInput): (ToHost & { say: "run" })["turn"] {
  if (turn.messages.length !== 1 || turn.messages[0] !== turn.message) return turn
  const { message, slots, state, contact, conversation, channel, again, now } = turn
  return { message, slots, state, contact, conversation, channel, again, now }
}
