import type { ChildProcess } from "node:child_process"
import { fork } from "node:child_process"
import { readFileSync } from "node:fs"
import type { HandlerAnswer, HandlerError, Keeping, TurnInput } from "./handler.ts"
import { HandlerFault } from "./handler.ts"
import type { FromHost, ToHost } from "./hostProtocol.ts"
import { readFromHost } from "./hostProtocol.ts"
import type { OnceAnswer } from "./once.ts"
import type { Housing } from "./housing.ts"

/** A handler's run for one turn. */
export interface Run {
  id: number
  handler: string
  turn: TurnInput
  /** Milliseconds. */
  deadline: number
  keeping?: Keeping | undefined
  secrets?: { readonly [name: string]: string } | undefined
  done: (answer: HandlerAnswer) => void
  fail: (fault: HandlerFault) => void
  timer?: NodeJS.Timeout
}

export interface HostLimits {
  /** Hosts of a release that take turns. */
  hosts: number
  /** Megabytes of a host's heap; the whole process may take twice as much. */
  memory: number
  /** Milliseconds without a sign of life before a host counts as stuck. */
  stuckAfter: number
}

export const hostLimits: HostLimits = { hosts: 2, memory: 256, stuckAfter: 2500 }

/** Milliseconds between two looks at a host that has something to do. */
const lookEvery = 100
/** Milliseconds without a sign of life before a host counts as stuck, once a handler in it is overdue. */
const overdueStuckAfter = 1200
/** Milliseconds without a sign of life after which a host is given nothing new. */
const quietAfter = 250

const tooMuchMemory = "the handler used more memory than a host may have"
const loopNeverEnds = "the handler's loop never ends: it gave no sign of life"

const saysWrong = "its process said what no handler says to the service"

/** One process that runs a bundle's handlers, and the watch over it. */
export class HostProcess {
  readonly runs = new Map<number, Run>()
  readonly ready: Promise<HandlerError | undefined>
  /** Set once the bundle is loaded. */
  loaded = false
  /** Set once a handler in it did not answer in time: it cannot be stopped, so its host takes no more, and goes. */
  overrun = false
  private readonly child: ChildProcess
  private readonly orders: ToHost[] = []
  /** Runs whose time is over while the host gave no sign of life. */
  private readonly overdueRuns = new Set<Run>()
  /**
   * Milliseconds without a sign of life, as the looks count them. Where this process itself was kept from looking, it
   * was kept from hearing too: such a look counts no more than two would.
   */
  private silence = 0
  private lookedAt = performance.now()
  private readonly watch: NodeJS.Timeout
  private ended = false

  constructor(
    private readonly housing: Housing,
    bundle: string,
    private readonly limits: HostLimits,
    private readonly retired: (host: HostProcess) => void,
    private readonly lost: (host: HostProcess, reason: string, runs: Run[]) => void,
  ) {
    const { script, options } = housing.start(bundle, limits.memory)
    const child = (this.child = fork(script, options))
    if (child.pid !== undefined) housing.watch(child.pid)
    this.ready = new Promise((resolve) => {
      this.child.on("message", (given: unknown) => {
        const said = readFromHost(given)
        if (!said) {
          resolve({ name: "HostProtocol", message: saysWrong })
          return this.kill(saysWrong)
        }
        this.silence = 0
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
    void this.ready.then(() => (this.loaded = true))
    this.tell({ say: "load", file: bundle })
    this.watch = setInterval(() => this.look(), lookEvery)
    this.watch.unref()
  }

  /** Whether it has been silent for so long that its loop may be stuck. */
  get isQuiet(): boolean {
    return this.loaded && this.runs.size > 0 && this.silence > quietAfter
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
      // One that had nothing to do was not asked for a sign of life.
      if (this.runs.size === 1) this.silence = 0
      run.timer = setTimeout(() => this.overdue(run), run.deadline)
      this.tell({
        say: "run",
        id: run.id,
        handler: run.handler,
        turn: withoutTwice(run.turn),
        interview: run.keeping?.interview,
        secrets: run.secrets,
      })
    })
  }

  /** Ends the process, and gives back what was running in it. */
  end(): Run[] {
    this.ended = true
    clearInterval(this.watch)
    this.child.removeAllListeners()
    // Watched until it has ended, not only until it was told to.
    const { pid } = this.child
    if (pid !== undefined && this.child.exitCode === null && this.child.signalCode === null)
      this.child.once("exit", () => this.housing.unwatch(pid))
    else if (pid !== undefined) this.housing.unwatch(pid)
    this.child.on("error", () => undefined)
    this.child.kill("SIGKILL")
    const runs = [...this.runs.values()]
    this.runs.clear()
    runs.forEach((run) => clearTimeout(run.timer))
    return runs
  }

  private overdue(run: Run): void {
    // A host that awaits answers pings. Of one that does not, the looks tell whether it is stuck or was only late.
    if (this.silence > 0) return void this.overdueRuns.add(run)
    if (!this.runs.delete(run.id)) return
    this.overdueRuns.delete(run)
    const message = `the handler "${run.handler}" did not answer within ${run.deadline / 1000} s`
    this.overrun = true
    this.retired(this)
    run.fail(new HandlerFault({ name: "DeadlinePassed", message }))
    this.leaveWhenEmpty()
  }

  private hear(words: FromHost): void {
    if (words.say === "pong") {
      this.overdueRuns.forEach((run) => this.overdue(run))
      if (words.memory > this.limits.memory * 2 * 1024 * 1024) this.kill(tooMuchMemory)
      return
    }
    if ("call" in words) return void this.keep(words)
    if (words.say === "cold") return void this.withJournal(words.id)
    if (words.say !== "done" && words.say !== "threw") return
    const run = this.runs.get(words.id)
    if (!run) return
    this.runs.delete(words.id)
    this.overdueRuns.delete(run)
    clearTimeout(run.timer)
    if (words.say === "done") run.done({ outcome: words.outcome as HandlerAnswer["outcome"], log: words.log })
    else run.fail(new HandlerFault(words.error, words.log))
    this.leaveWhenEmpty()
  }

  /** A side effect begins or has ended, or what was said before is asked for: the host is told what the record says. */
  private async keep(words: Extract<FromHost, { call: number }>): Promise<void> {
    const { id, call } = words
    const keeping = this.runs.get(id)?.keeping
    const answer = await (
      keeping === undefined
        ? Promise.resolve<OnceAnswer>({ refused: "nothing is on record here" })
        : words.say === "person"
          ? keeping.person().then((person) => ({ person }))
          : words.say === "history"
            ? keeping.history(words.count).then((history) => ({ history }))
            : words.say === "once"
              ? keeping.once.begin(words.asked)
              : keeping.once.end(words.key, words.ended)
    ).catch((error: unknown): OnceAnswer => ({ refused: `the record did not answer: ${(error as Error).message}` }))
    if (this.runs.has(id)) this.tell({ say: "once", id, call, answer })
  }

  /** Runs an interview again with its journal: this host does not have it. */
  private async withJournal(id: number): Promise<void> {
    const run = this.runs.get(id)
    const { keeping } = run ?? {}
    if (!run || !keeping?.interview.goesOn) return
    try {
      const journal = await keeping.journal()
      const { goesOn, ...order } = keeping.interview
      if (!this.runs.has(id)) return
      this.tell({
        say: "run",
        id,
        handler: run.handler,
        turn: withoutTwice(run.turn),
        interview: { ...order, goesOn: { ...goesOn, journal } },
        secrets: run.secrets,
      })
    } catch (error) {
      this.runs.delete(id)
      this.overdueRuns.delete(run)
      clearTimeout(run.timer)
      run.fail(
        new HandlerFault({
          name: "JournalAway",
          message: `its journal could not be read: ${(error as Error).message}`,
        }),
      )
    }
  }

  private leaveWhenEmpty(): void {
    if (this.overrun && this.runs.size === 0) this.gone("it holds a handler that did not answer in time")
  }

  /** A host that answers no ping has a loop that never ends. */
  private look(): void {
    const now = performance.now()
    this.silence = this.runs.size === 0 ? 0 : this.silence + Math.min(now - this.lookedAt, 2 * lookEvery)
    this.lookedAt = now
    if (this.runs.size === 0) return
    const stuckAfter = this.overdueRuns.size === 0 ? this.limits.stuckAfter : overdueStuckAfter
    if (this.silence > stuckAfter) this.kill(loopNeverEnds)
    else this.tell({ say: "ping", at: now })
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
    if (!this.ended) this.lost(this, reason, this.end())
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
  const { messages: _messages, ...rest } = turn
  return rest
}
