import type { InboundCall } from "../../core/channels/call.ts"

/** What goes back inside a provider's call; `written` is told whether it left whole. */
export interface HeldAnswer {
  type: string
  body: string
  written: (whole: boolean) => void
}

interface Waiter {
  call: InboundCall
  messages: string[]
  done: (answer: HeldAnswer | undefined) => void
  timer: NodeJS.Timeout
}

/**
 * Calls of providers that are held open until the reply to what they brought is ready, or as long as they wait. Only
 * this process can answer them: what another process has to say is late here, and goes the way of late replies.
 */
export class HeldCalls {
  private readonly waiting = new Map<string, Waiter>()

  /** Holds a call for the replies to these messages. Resolves with nothing when it must be answered without one. */
  hold(call: InboundCall, messages: string[], milliseconds: number): Promise<HeldAnswer | undefined> {
    return new Promise((resolve) => {
      const waiter: Waiter = {
        call,
        messages,
        timer: setTimeout(() => this.end(waiter, undefined), Math.max(0, milliseconds)),
        done: resolve,
      }
      for (const message of messages) this.waiting.set(message, waiter)
    })
  }

  holds(messages: string[]): boolean {
    return messages.some((message) => this.waiting.has(message))
  }

  /** Nothing will be said about these messages: whoever waits for it is answered at once. */
  over(messages: string[]): void {
    for (const message of messages) {
      const waiter = this.waiting.get(message)
      if (waiter) this.end(waiter, undefined)
    }
  }

  /** Answers the call that brought one of these messages, the latest first; says whether the answer left whole. */
  async answer(
    messages: string[],
    make: (call: InboundCall) => { type: string; body: string },
  ): Promise<"written" | "broken" | "nobody waits"> {
    const waiter = messages.map((message) => this.waiting.get(message)).findLast((one) => one !== undefined)
    if (!waiter) return "nobody waits"
    return new Promise((resolve) => {
      this.end(waiter, { ...make(waiter.call), written: (whole) => resolve(whole ? "written" : "broken") })
      this.over(messages)
    })
  }

  private end(waiter: Waiter, answer: HeldAnswer | undefined): void {
    clearTimeout(waiter.timer)
    for (const message of waiter.messages) if (this.waiting.get(message) === waiter) this.waiting.delete(message)
    waiter.done(answer)
  }
}
