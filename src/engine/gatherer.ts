/**
 * Group commit: while one batch is under way, whatever comes is gathered for the next. Under load batches grow by
 * themselves; alone, an item goes at once.
 */
export class Gatherer<Item, Result> {
  private waiting: { item: Item; done: (result: Result) => void; fail: (error: unknown) => void }[] = []
  private running = 0
  private called = false
  private idle: (() => void)[] = []

  /** @param run gets a batch and gives the results in its order. */
  constructor(
    private readonly run: (items: Item[]) => Promise<Result[]>,
    private readonly most: number,
    private readonly atOnce = 1,
  ) {}

  add(item: Item): Promise<Result> {
    return new Promise<Result>((done, fail) => {
      this.waiting.push({ item, done, fail })
      // Items of the same instant, such as the calls of one network read, go together.
      if (this.running >= this.atOnce || this.called) return
      this.called = true
      setImmediate(() => {
        this.called = false
        void this.next()
      })
    })
  }

  /** How many wait for their batch. */
  get backlog(): number {
    return this.waiting.length
  }

  /** Resolves once nothing is waiting or under way. */
  async drained(): Promise<void> {
    while (this.running > 0 || this.waiting.length > 0) await new Promise<void>((resolve) => this.idle.push(resolve))
  }

  private async next(): Promise<void> {
    if (this.running >= this.atOnce || this.waiting.length === 0) return
    this.running++
    const batch = this.waiting.splice(0, this.most)
    try {
      const results = await this.run(batch.map((one) => one.item))
      batch.forEach((one, at) => one.done(results[at]!))
    } catch (error) {
      batch.forEach((one) => one.fail(error))
    } finally {
      this.running--
      if (this.waiting.length > 0) void this.next()
      else if (this.running === 0) this.idle.splice(0).forEach((resolve) => resolve())
    }
  }
}
