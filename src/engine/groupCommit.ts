import { databaseFault } from "../store/database.ts"

interface Waiting<Item, Result> {
  item: Item
  done: (result: Result) => void
  fail: (error: unknown) => void
  /** When whoever gave it no longer waits, in milliseconds since 1970. */
  until: number
  gone: boolean
}

/** Milliseconds between two looks for those who waited as long as they could: a timer for each item cost more. */
const lookEvery = 200

/** Whoever gave an item waited for it as long as they could. What was begun by then goes on. */
export class NotInTime extends Error {}

/**
 * Group commit: while one batch is under way, whatever comes is gathered for the next. Under load batches grow by
 * themselves; alone, an item goes at once.
 */
export class GroupCommit<Item, Result> {
  private waiting: Waiting<Item, Result>[] = []
  private running = 0
  private called = false
  private idle: (() => void)[] = []
  private readonly underWay = new Set<Waiting<Item, Result>[]>()
  private looking: NodeJS.Timeout | undefined

  /** @param run gets a batch and gives the results in its order. */
  constructor(
    private readonly run: (items: Item[]) => Promise<Result[]>,
    private readonly most: number,
    private readonly atOnce = 1,
  ) {}

  /**
   * @param within milliseconds after which the promise rejects with NotInTime; an item that has not been begun by then
   *   is left out
   */
  add(item: Item, within?: number): Promise<Result> {
    return new Promise<Result>((done, fail) => {
      const until = within === undefined ? Infinity : performance.now() + within
      if (within !== undefined) this.looking ??= setInterval(() => this.letGo(), lookEvery).unref()
      this.waiting.push({ item, done, fail, until, gone: false })
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

  /** Tells those who waited as long as they could. What has not been begun for them is left out. */
  private letGo(): void {
    const now = performance.now()
    const late = (waiting: Waiting<Item, Result>) => waiting.until <= now && !waiting.gone
    for (const batch of [this.waiting, ...this.underWay]) {
      for (const waiting of batch.filter(late)) {
        waiting.gone = true
        waiting.fail(new NotInTime("it was not done in time"))
      }
    }
    this.waiting = this.waiting.filter((waiting) => !waiting.gone)
    if (this.waiting.length === 0 && this.running === 0) this.idle.splice(0).forEach((resolve) => resolve())
  }

  private async next(): Promise<void> {
    if (this.running >= this.atOnce || this.waiting.length === 0) return
    this.running++
    const batch = this.waiting.splice(0, this.most)
    this.underWay.add(batch)
    try {
      const results = batch.length > 0 ? await this.run(batch.map((one) => one.item)) : []
      batch.forEach((one, at) => one.done(results[at]!))
    } catch (error) {
      batch.forEach((one) => one.fail(error))
    } finally {
      this.running--
      this.underWay.delete(batch)
      if (this.waiting.length > 0) void this.next()
      else if (this.running === 0) this.idle.splice(0).forEach((resolve) => resolve())
    }
  }
}

/**
 * Keeps a batch in one go. One item that PostgreSQL refuses for its data must not hurt its neighbours: the batch is
 * halved until that item stands alone.
 *
 * @param keep keeps some of them
 * @param alone decides about the one that cannot be kept
 */
export async function keepHalving<Item>(
  items: Item[],
  keep: (items: Item[]) => Promise<void>,
  alone: (item: Item, error: Error) => Promise<void>,
): Promise<void> {
  try {
    await keep(items)
  } catch (error) {
    if (databaseFault(error) !== "data" || items.length === 0) throw error
    if (items.length === 1) return alone(items[0]!, error as Error)
    const middle = items.length >> 1
    await keepHalving(items.slice(0, middle), keep, alone)
    await keepHalving(items.slice(middle), keep, alone)
  }
}
