/** How it stands with an endpoint. */
export type BreakerState = "closed" | "open" | "half-open"

/** Failures in a row after which an endpoint is left alone for a while. */
const mostFailures = 5

/** Milliseconds it is left alone: at first, and at most. */
const rest = { first: 10_000, most: 120_000 }

/** Milliseconds that an endpoint may ask to be left alone for. */
const longestRest = 3_600_000

/**
 * Leaves an endpoint alone that fails again and again. Closed, everything is asked. After so many failures in a row it
 * opens, and nothing is asked for a while; then, half-open, one call tries: it closes the breaker, or opens it for
 * twice as long.
 */
export class Breaker {
  state: BreakerState = "closed"
  /** In a row. */
  failures = 0
  /** Of the last failure. */
  why: string | undefined
  /** Until when it is open, in milliseconds since 1970. */
  until = 0
  private opened = 0
  private trying = false
  /** It asked to be left alone until then, whatever its state. */
  private leftAlone = 0

  /** Milliseconds until it may be asked; 0 where it may be now. Whoever is let through tells how it went. */
  wait(now: number): number {
    if (now < this.leftAlone) return this.leftAlone - now
    if (this.state === "closed") return 0
    if (this.state === "open" && now < this.until) return this.until - now
    this.state = "half-open"
    if (this.trying) return 1000
    this.trying = true
    return 0
  }

  /** Gives whether the state is another now. */
  succeeded(): boolean {
    const before = this.state
    this.state = "closed"
    this.failures = 0
    this.opened = 0
    this.trying = false
    this.why = undefined
    return before !== "closed"
  }

  /** Gives whether the state is another now. */
  failed(now: number, why: string): boolean {
    const before = this.state
    this.why = why
    this.failures++
    this.trying = false
    if (before === "open" || (before === "closed" && this.failures < mostFailures)) return false
    this.until = now + Math.min(rest.first * 2 ** this.opened, rest.most)
    this.opened++
    this.state = "open"
    return true
  }

  /** It asked to be left alone for so many milliseconds. */
  leaveAlone(now: number, milliseconds: number): void {
    this.leftAlone = Math.max(this.leftAlone, now + Math.min(milliseconds, longestRest))
  }

  /** What was begun came to nothing that says anything about the endpoint. */
  undecided(): void {
    this.trying = false
  }
}
