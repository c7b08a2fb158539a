/** A token bucket: `count` messages in `seconds`, evenly refilled, up to `count` at once. Times in milliseconds. */
export class Bucket {
  private tokens: number
  private at: number

  constructor(
    private readonly count: number,
    private readonly seconds: number,
    now: number,
  ) {
    this.tokens = count
    this.at = now
  }

  /** How long until a message may go; 0 for now. */
  wait(now: number): number {
    this.refill(now)
    const held = Math.max(0, this.at - now)
    return held + (this.tokens >= 1 ? 0 : Math.ceil(((1 - this.tokens) * this.seconds * 1000) / this.count))
  }

  take(now: number): void {
    this.refill(now)
    this.tokens -= 1
  }

  /** The provider said when: nothing goes before. */
  holdUntil(time: number, now: number): void {
    this.refill(now)
    this.at = Math.max(this.at, time)
    this.tokens = Math.min(this.tokens, 1)
  }

  /** Whether forgetting it would change nothing. */
  full(now: number): boolean {
    this.refill(now)
    return this.tokens >= this.count
  }

  private refill(now: number): void {
    if (now <= this.at) return
    this.tokens = Math.min(this.count, this.tokens + ((now - this.at) * this.count) / (this.seconds * 1000))
    this.at = now
  }
}
