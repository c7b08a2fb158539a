import type { IncomingHttpHeaders } from "node:http"
import { StringDecoder } from "node:string_decoder"
import type { Dispatcher } from "undici"

/** Who reads an answer while it comes. */
export interface Listener {
  begins(status: number, headers: { [name: string]: string }): void
  /** Gives whether it has heard all it wants. */
  hears(text: string): boolean
}

/** How an answer ended. */
export type Ended =
  | { ended: "whole" }
  /** What had come may be read. @property large whether it is larger than anybody reads */
  | { ended: "cut"; why: string; large?: true }

/**
 * One request whose answer is read while it comes, within limits of time and size, and no longer than so many
 * milliseconds between two of its pieces, once it has begun: a stalled answer is noticed long before the whole time is over.
 */
export class Streamed implements Dispatcher.DispatchHandler {
  readonly end: Promise<Ended>
  /** Whether an answer has begun. */
  answered = false
  private controller: Dispatcher.DispatchController | undefined
  private over: Error | undefined
  private size = 0
  private readonly decoder = new StringDecoder("utf8")
  private readonly whole: NodeJS.Timeout
  private stalled: NodeJS.Timeout | undefined
  private done!: (ended: Ended) => void
  private fail!: (error: Error) => void

  /** @param limits milliseconds in all, milliseconds between two pieces, and bytes */
  constructor(
    private readonly limits: { within: number; stall: number; most: number },
    private readonly listener: Listener,
    private readonly signal: AbortSignal | undefined,
  ) {
    this.end = new Promise((done, fail) => ((this.done = done), (this.fail = fail)))
    this.end.catch(() => undefined)
    this.whole = setTimeout(() => this.cut("it did not end in time"), limits.within)
    signal?.addEventListener("abort", this.broken)
    if (signal?.aborted) this.broken()
  }

  onRequestStart(controller: Dispatcher.DispatchController): void {
    this.controller = controller
    if (this.over) controller.abort(this.over)
  }

  onResponseStart(_controller: Dispatcher.DispatchController, status: number, given: IncomingHttpHeaders): void {
    this.answered = true
    const headers: { [name: string]: string } = {}
    for (const [name, value] of Object.entries(given))
      headers[name] = Array.isArray(value) ? value.join(", ") : (value ?? "")
    this.listener.begins(status, headers)
    this.stillComing()
  }

  onResponseData(_controller: Dispatcher.DispatchController, chunk: Buffer): void {
    if (this.over) return
    this.size += chunk.length
    if (this.size > this.limits.most) {
      this.finish({
        ended: "cut",
        why: `its answer is larger than ${Math.ceil(this.limits.most / 1024)} kB`,
        large: true,
      })
      return
    }
    this.stillComing()
    if (this.listener.hears(this.decoder.write(chunk))) this.finish({ ended: "whole" })
  }

  onResponseEnd(): void {
    this.finish({ ended: "whole" })
  }

  onResponseError(_controller: Dispatcher.DispatchController | undefined, error: Error): void {
    if (this.over) return
    this.over = error
    this.clear()
    if (this.answered) this.done({ ended: "cut", why: "its answer broke off before its end" })
    else this.fail(error)
  }

  private readonly broken = () => {
    if (this.over) return
    this.over = new DOMException("broken off", "AbortError")
    this.clear()
    this.controller?.abort(this.over)
    this.fail(this.over)
  }

  private stallTimer(): NodeJS.Timeout {
    return setTimeout(() => this.cut(`it stalled: nothing came for ${this.limits.stall / 1000} s`), this.limits.stall)
  }

  private stillComing(): void {
    clearTimeout(this.stalled)
    this.stalled = this.stallTimer()
  }

  private cut(why: string): void {
    this.finish({ ended: "cut", why })
  }

  private finish(ended: Ended): void {
    if (this.over) return
    this.over = new DOMException("read to the end", "AbortError")
    this.clear()
    // Nothing more of it is wanted.
    this.controller?.abort(this.over)
    this.done(ended)
  }

  private clear(): void {
    clearTimeout(this.whole)
    clearTimeout(this.stalled)
    this.signal?.removeEventListener("abort", this.broken)
  }
}
