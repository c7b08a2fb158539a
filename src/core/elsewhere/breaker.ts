/** How it stands with an endpoint. */
export type BreakerState = "closed" | "open" | "half-open"

/** Failures in a row after which an endpoint is left alone for a while, and of how many conversations they must be. */
const mostFailures = 5
const mostConversations = 3

/** Milliseconds it is left alone: at first, and at most. */
const rest = { first: 10_000, most: 120_000 }

/** Milliseconds that an endpoint may ask to be left alone for. */
const longestRest = 3_600_000

/** Milliseconds for which a turn that has not failed there goes first, once it may be tried again. */
const freshFirst = 3000

/** Conversations of which it is remembered that their turns failed. */
const mostKnown = 1000

/** How it stands with one conversation's turns. */
interface Own {
  failures: number
  until: number
  opened: number
}

/**
 * Leaves an endpoint alone that fails again and again. Closed, everything is asked. After so many failures in a row, of
 * several conversations, it opens, and nothing is asked for a while; then, half-open, one call tries, of a turn that has
 * not failed there if there is one: it closes the breaker, or opens it for twice as long. Where only one conversation's
 * turns fail, it is open for that one alone: what a stranger says must not cut off all others.
 *
 * Times are milliseconds of a clock that nobody sets.
 */
export class Breaker {
  state: BreakerState = "closed"
  /** In a row. */
  failures = 0
  /** Of the last failure. */
  why: string | undefined
  /** Until when it is open. */
  until = 0
  private opened = 0
  private trying = false
  /** It asked to be left alone until then, whatever its state. */
  private leftAlone = 0
  /** Conversations that failed since the last success. */
  private readonly failing = new Set<string>()
  private readonly own = new Map<string, Own>()

  /**
   * Milliseconds until it may be asked; 0 where it may be now. Whoever is let through tells how it went.
   *
   * @param conversation whose turn it is; undefined where any may be taken
   */
  wait(now: number, conversation?: string): number {
    if (now < this.leftAlone) return this.leftAlone - now
    const own = conversation === undefined ? undefined : this.own.get(conversation)
    if (own && now < own.until) return own.until - now
    if (this.state === "closed") return 0
    if (this.state === "open" && now < this.until) return this.until - now
    this.state = "half-open"
    if (this.trying) return 1000
    if (own && now < this.until + freshFirst) return this.until + freshFirst - now
    this.trying = true
    return 0
  }

  /** Conversations whose turns failed lately: others go before them while it is tried. */
  get failed(): string[] {
    return this.state === "closed" ? [] : [...this.own.keys()]
  }

  /** Gives whether the state is another now. */
  succeeded(conversation: string): boolean {
    const before = this.state
    this.state = "closed"
    this.failures = 0
    this.opened = 0
    this.trying = false
    this.why = undefined
    this.failing.clear()
    this.own.delete(conversation)
    return before !== "closed"
  }

  /** Gives whether the state is another now. */
  fails(now: number, why: string, conversation: string): boolean {
    const before = this.state
    this.why = why
    this.failures++
    this.trying = false
    this.failing.add(conversation)
    this.ownFailed(now, conversation)
    if (before === "open") return false
    if (before === "closed" && (this.failures < mostFailures || this.failing.size < mostConversations)) return false
    this.until = now + Math.min(rest.first * 2 ** this.opened, rest.most)
    this.opened++
    this.state = "open"
    return true
  }

  private ownFailed(now: number, conversation: string): void {
    const own = this.own.get(conversation) ?? { failures: 0, until: 0, opened: 0 }
    own.failures++
    if (own.failures >= mostFailures) own.until = now + Math.min(rest.first * 2 ** own.opened++, rest.most)
    this.own.delete(conversation)
    this.own.set(conversation, own)
    if (this.own.size > mostKnown) this.own.delete(this.own.keys().next().value!)
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
