import type { IncomingHttpHeaders } from "node:http"
import type { Dispatcher } from "undici"
import type { ProviderAnswer } from "../../core/channels/call.ts"

/** An answer, whole. */
export type Answered = Extract<ProviderAnswer, { status: number }>

/** An answer larger than anybody reads. Its request has arrived. */
export class TooLarge extends Error {}

/**
 * One request and its answer, read to the end within a limit of time and of size. Speaks to undici's dispatcher
 * directly: its `request`, with a stream for the body and an abort signal for the limit, took half as long again. What
 * is compressed stays so: it was not asked for, and may be small here and huge there.
 */
export class Exchange implements Dispatcher.DispatchHandler {
  readonly answer: Promise<Answered>
  /** Whether the request was handed to a connection: before that, no byte can have left. */
  begun = false
  private controller: Dispatcher.DispatchController | undefined
  private ended: Error | undefined
  private status = 0
  private readonly headers: { [name: string]: string } = {}
  private readonly chunks: Buffer[] = []
  private size = 0
  private readonly timer: NodeJS.Timeout
  private done!: (answer: Answered) => void
  private fail!: (error: Error) => void

  /**
   * @param within milliseconds
   * @param most bytes of the answer's body
   */
  constructor(
    within: number,
    private readonly most: number,
    private readonly signal: AbortSignal | undefined,
  ) {
    this.answer = new Promise((done, fail) => ((this.done = done), (this.fail = fail)))
    this.answer.catch(() => undefined)
    this.timer = setTimeout(() => this.end(new DOMException("no answer in time", "TimeoutError")), within)
    signal?.addEventListener("abort", this.broken)
    if (signal?.aborted) this.broken()
  }

  onRequestStart(controller: Dispatcher.DispatchController): void {
    this.controller = controller
    if (this.ended) controller.abort(this.ended)
    else this.begun = true
  }

  onResponseStart(_controller: Dispatcher.DispatchController, status: number, headers: IncomingHttpHeaders): void {
    this.status = status
    for (const name in headers) {
      const value = headers[name]
      this.headers[name] = Array.isArray(value) ? value.join(", ") : (value ?? "")
    }
  }

  onResponseData(_controller: Dispatcher.DispatchController, chunk: Buffer): void {
    this.size += chunk.length
    if (this.size > this.most)
      this.end(new TooLarge(`the answer (${this.status}) is larger than ${Math.ceil(this.most / 1024)} kB`))
    else this.chunks.push(chunk)
  }

  onResponseEnd(): void {
    this.clear()
    const [first] = this.chunks
    const whole = this.chunks.length === 1 ? first! : Buffer.concat(this.chunks)
    this.done({ status: this.status, headers: this.headers, body: whole.toString("utf8") })
  }

  onResponseError(_controller: Dispatcher.DispatchController | undefined, error: Error): void {
    this.clear()
    this.fail(error)
  }

  private readonly broken = () => this.end(new DOMException("broken off", "AbortError"))

  private end(why: Error): void {
    this.clear()
    this.ended = why
    this.chunks.length = 0
    this.controller?.abort(why)
    this.fail(why)
  }

  private clear(): void {
    clearTimeout(this.timer)
    this.signal?.removeEventListener("abort", this.broken)
  }
}
