import type { HandlerAnswer, HandlerError, Keeping, TurnInput } from "./handler.ts"
import { HandlerFault } from "./handler.ts"
import type { HostLimits, Run } from "./hostProcess.ts"
import { hostLimits, HostProcess } from "./hostProcess.ts"
import type { Housing } from "./housing.ts"

/** Hosts for one run each, at once: one after the other, fifty slow handlers would wait a minute for a stuck one. */
const quarantines = 8
/** Interviews of which it is remembered which host has them warm. */
const mostWarm = 5000

/**
 * The hosts of one release. Two are kept warm: while one gives no sign of life, the other takes what comes. When one is
 * stuck or out of memory it is killed; whoever was running in it runs again, each in a host of its own, so that the one
 * to blame is found beyond doubt and only its own conversation notices.
 */
export class HostPool {
  private readonly hosts: HostProcess[] = []
  /** Every host that lives: those that take turns, those that only end theirs, and those with one run each. */
  private readonly living = new Set<HostProcess>()
  /** Which host has which interview ready to continue. */
  private readonly warm = new Map<string, HostProcess>()
  /** Runs that wait for a host of their own, and those in one. */
  private alone = 0
  private next = 1
  private closed = false
  private idle: (() => void)[] = []

  constructor(
    private readonly housing: Housing,
    private readonly bundle: string,
    private readonly limits: HostLimits = hostLimits,
  ) {}

  /** Whether it is closed and nothing of it lives. */
  get isOver(): boolean {
    return this.closed && this.living.size === 0
  }

  /** How many processes live. */
  get size(): number {
    return this.living.size
  }

  run(
    handler: string,
    turn: TurnInput,
    deadline: number,
    keeping?: Keeping,
    secrets?: Run["secrets"],
  ): Promise<HandlerAnswer> {
    if (this.closed) throw new Error("These hosts are closed: their release is no longer in use.")
    const interview = keeping?.interview
    const host = this.warmFor(interview?.goesOn && interview.id)
    return new Promise<HandlerAnswer>((done, fail) => {
      host.begin({ id: this.next++, handler, turn, deadline, keeping, secrets, done, fail })
    })
      .then((answer) => {
        const { interview } = answer.outcome
        if (interview && "waits" in interview.stands) this.keepWarm(interview.id, host)
        return answer
      })
      .finally(() => this.ended())
  }

  /** The host that has an interview warm, else the one with the least to do. */
  private warmFor(interview: string | undefined): HostProcess {
    const host = interview === undefined ? undefined : this.warm.get(interview)
    if (host && this.hosts.includes(host) && !host.isQuiet) return host
    if (interview !== undefined) this.warm.delete(interview)
    return this.pick()
  }

  private keepWarm(interview: string, host: HostProcess): void {
    this.warm.delete(interview)
    this.warm.set(interview, host)
    if (this.warm.size > mostWarm) this.warm.delete(this.warm.keys().next().value!)
  }

  /** Loads the bundle in a host, to see whether it loads at all. */
  async check(): Promise<HandlerError | undefined> {
    const host = this.make(false)
    this.hosts.push(host)
    return host.ready
  }

  /** Ends the hosts once nothing runs in them, or, if that takes longer than so many milliseconds, all the same. */
  async close(within: number): Promise<void> {
    this.closed = true
    if (this.busy) {
      await new Promise<void>((resolve) => {
        const timer = setTimeout(resolve, within)
        this.idle.push(() => (clearTimeout(timer), resolve()))
      })
    }
    this.hosts.length = 0
    for (const host of this.living) this.end(host)
  }

  private get busy(): boolean {
    return this.alone > 0 || [...this.living].some((host) => host.runs.size > 0)
  }

  private ended(): void {
    if (this.closed && !this.busy) this.idle.splice(0).forEach((resolve) => resolve())
    // Those that stood in for one that was only busy for a moment go.
    const spare = this.hosts.length > this.limits.hosts ? this.hosts.findIndex((host) => host.runs.size === 0) : -1
    if (spare !== -1) this.hosts.splice(spare, 1).forEach((host) => this.end(host))
  }

  /** The host with the least to do of those that give signs of life. */
  private pick(): HostProcess {
    let able = this.hosts.filter((host) => !host.isQuiet)
    // One that is quiet is replaced at once; if it was only busy for a moment, there is one more for a while.
    while (able.length < this.limits.hosts && this.hosts.length < 2 * this.limits.hosts) {
      this.hosts.push(this.make(false))
      able = this.hosts.filter((host) => !host.isQuiet)
    }
    const [first = this.hosts[0]!, ...others] = able
    const load = (host: HostProcess) => host.runs.size + (host.loaded ? 0 : 1000)
    return others.reduce((least, host) => (load(host) < load(least) ? host : least), first)
  }

  private make(quarantine: boolean): HostProcess {
    const leave = (host: HostProcess) => {
      const at = this.hosts.indexOf(host)
      if (at !== -1) this.hosts.splice(at, 1)
    }
    const made = new HostProcess(this.housing, this.bundle, this.limits, leave, (host, reason, runs) => {
      leave(host)
      this.living.delete(host)
      // In a host that still holds a handler whose time is over, that one may be to blame: whoever is there runs again.
      if ((runs.length === 1 && !host.overrun) || quarantine) {
        runs.forEach((run) => run.fail(new HandlerFault({ name: "HandlerStopped", message: reason })))
      } else {
        void this.runEachAlone(runs)
      }
    })
    this.living.add(made)
    return made
  }

  private end(host: HostProcess): void {
    this.living.delete(host)
    const message = "the service stopped before the handler had ended"
    for (const run of host.end()) run.fail(new HandlerFault({ name: "HandlerStopped", message }))
  }

  private async runEachAlone(runs: Run[]): Promise<void> {
    const waiting = [...runs]
    this.alone += runs.length
    const line = async () => {
      for (let run = waiting.shift(); run; run = waiting.shift()) {
        await this.runAlone(run)
        this.alone--
        this.ended()
      }
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
    this.living.delete(host)
    host.end()
  }
}
