/**
 * At most `count` messages in any stretch of `seconds`. Providers count so; a bucket that refills evenly would let a
 * third more through in the first minute. Times in milliseconds.
 */
export class Rate {
  /** When the last messages went, oldest first. */
  private times: number[] = []
  private heldUntil = 0

  constructor(
    private readonly count: number,
    private readonly seconds: number,
  ) {}

  /** So many a second, also where that is less than one or a fraction. */
  static perSecond(perSecond: number): Rate {
    const count = Math.max(1, Math.floor(perSecond))
    return new Rate(count, count / perSecond)
  }

  /** How long until a message may go; 0 for now. */
  wait(now: number): number {
    const held = Math.max(0, this.heldUntil - now)
    const oldest = this.times.at(-this.count)
    return oldest === undefined ? held : Math.max(held, oldest + this.seconds * 1000 - now)
  }

  take(now: number): void {
    this.times.push(now)
    if (this.times.length > this.count * 2) this.times = this.times.slice(-this.count)
  }

  /** The provider said when: nothing goes before. */
  holdUntil(time: number): void {
    this.heldUntil = Math.max(this.heldUntil, time)
  }

  /** Whether forgetting it would change nothing. */
  idle(now: number): boolean {
    return now >= this.heldUntil && (this.times.at(-1) ?? -Infinity) + this.seconds * 1000 <= now
  }
}
