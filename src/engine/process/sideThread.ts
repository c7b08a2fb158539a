import { Worker } from "node:worker_threads"

/** Milliseconds the thread may take to start: on a busy machine it gets a small part of them. */
const startWithin = 30_000
/** Milliseconds without work after which the thread ends, and gives back what it took. */
const idle = 60_000
/** Megabytes the thread may use. */
const memory = 256

/** Work that did not come to its end: it took too long, or too much memory, or too much was waiting. */
export class NotDone extends Error {}

interface Waiting<Order, Answer> {
  id: number
  order: Order
  done: (answer: Answer) => void
  fail: (error: NotDone) => void
}

/**
 * Work that may be heavy, in a thread of its own: one piece after the other, each within a deadline, so that everybody
 * else's messages go on meanwhile.
 */
export class SideThread<Order extends object, Answer extends object> {
  private worker: Worker | undefined
  private online = false
  private readonly line: Waiting<Order, Answer>[] = []
  private timer: NodeJS.Timeout | undefined
  private next = 1

  /**
   * @param script of the thread, as it was built
   * @param patience milliseconds for one piece, once the thread has started
   */
  constructor(
    private readonly script: string,
    private readonly patience: number,
  ) {}

  /** What waits, the one under way too. */
  get waiting(): readonly Order[] {
    return this.line.map(({ order }) => order)
  }

  /**
   * Throws a NotDone.
   *
   * @param after of what waits, behind which it may go; it goes before all others but the one under way
   */
  async ask(order: Order, after: (other: Order) => boolean = () => true): Promise<Answer> {
    return new Promise<Answer>((done, fail) => {
      const at = this.line.findIndex((other, n) => n > 0 && !after(other.order))
      this.line.splice(at === -1 ? this.line.length : at, 0, { id: this.next++, order, done, fail })
      if (this.line.length === 1) this.begin()
    })
  }

  close(): void {
    this.end()
    for (const { fail } of this.line.splice(0)) fail(new NotDone("the service stopped"))
  }

  private begin(): void {
    const [first] = this.line
    if (!first) {
      this.limit(idle, () => this.end())
      return
    }
    this.worker ??= this.start()
    this.worker.postMessage({ id: first.id, order: first.order })
    this.limit(this.online ? this.patience : startWithin)
  }

  private limit(milliseconds: number, then = () => this.giveUp(`it took longer than ${milliseconds / 1000} s`)): void {
    clearTimeout(this.timer)
    this.timer = setTimeout(then, milliseconds).unref()
  }

  private start(): Worker {
    const worker = new Worker(this.script, { env: {}, resourceLimits: { maxOldGenerationSizeMb: memory } })
    worker.unref()
    this.online = false
    worker.on("online", () => {
      if (this.worker !== worker || this.online) return
      this.online = true
      if (this.line.length > 0) this.limit(this.patience)
    })
    worker.on("message", ({ id, answer }: { id: number; answer: Answer }) => {
      if (this.worker !== worker || this.line[0]?.id !== id) return
      this.line.shift()!.done(answer)
      this.begin()
    })
    worker.on("error", (error) => this.worker === worker && this.giveUp(error.message))
    worker.on("exit", () => this.worker === worker && this.giveUp("its thread ended"))
    return worker
  }

  private end(): void {
    clearTimeout(this.timer)
    void this.worker?.terminate()
    this.worker = undefined
  }

  private giveUp(why: string): void {
    this.end()
    this.line.shift()?.fail(new NotDone(why))
    this.begin()
  }
}
