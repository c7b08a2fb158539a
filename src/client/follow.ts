import type { LiveEvent } from "./types.ts"

/** What the live stream says: that it has begun, what happened, or that channels or the bot have changed. */
export type Told =
  | { event: "ready"; again: boolean }
  | { event: "happened"; items: LiveEvent[] }
  | { event: "channels" }
  | { event: "bot" }

/** Whether the live stream is there, and if not, when it is tried again. */
export type LiveState = { live: true } | { live: false; why: Error; retryAt: number }

export interface FollowOptions {
  signal: AbortSignal
  /** Opens the stream where a cursor ends; throws where nobody answers. */
  open: (cursor: string | undefined, signal: AbortSignal) => Promise<Response>
  /** Reads what the service says of a failure. */
  failure: (answer: Response) => Promise<Error>
  /** Whether the first attempt, too, is made again when it fails. */
  patient?: boolean
  /** Told whenever the stream begins or breaks. */
  state?: (state: LiveState) => void
  /** Ends a pause between two attempts, where somebody knows that it is time. */
  hurry?: (now: () => void) => () => void
}

/** Milliseconds between two attempts: the first, and the longest. */
const pauses = { first: 500, longest: 15_000 }
/** Characters of one event at most: a batch of 500 happenings is a tenth of it. */
const longestEvent = 1_000_000
/** The service says something every 20 s. Milliseconds of silence after which a stream is given up. */
const longestSilence = 50_000
/** Answers that stay the same however often one asks. */
const final = new Set([401, 403, 404])

/**
 * The live stream, over restarts, proxies and lost networks: after any failure it is opened again, with pauses that grow
 * to 15 s, and resumes after the last event it told of. Throws where asking again would not help.
 */
export async function* follow(options: FollowOptions): AsyncGenerator<Told> {
  const { signal, state } = options
  let cursor: string | undefined
  let began = false
  let failures = 0
  while (!signal.aborted) {
    const attempt = new AbortController()
    const end = () => attempt.abort()
    signal.addEventListener("abort", end, { once: true })
    let why: Error
    try {
      const answer = await options.open(cursor, attempt.signal)
      if (!answer.ok || !answer.body) {
        const error = await options.failure(answer)
        if (final.has(answer.status)) throw new Final(error)
        // A place this service does not know, such as after its database was restored: begin now.
        if (answer.status === 400) cursor = undefined
        throw error
      }
      for await (const { id, event, data } of readEvents(answer.body, attempt.signal)) {
        cursor = id ?? cursor
        if (event === "ready") {
          failures = 0
          state?.({ live: true })
          yield { event, again: began }
          began = true
        } else if (event === "happened") yield { event, items: JSON.parse(data) as LiveEvent[] }
        else if (event === "channels" || event === "bot") yield { event }
      }
      why = new Error("The live stream ended.")
    } catch (error) {
      if (signal.aborted) return
      if (error instanceof Final) throw error.cause
      if (!began && !options.patient) throw error
      why = error as Error
    } finally {
      signal.removeEventListener("abort", end)
      attempt.abort()
    }
    if (signal.aborted) return
    const pause = Math.min(pauses.first * 2 ** failures++, pauses.longest) * (0.5 + Math.random() / 2)
    state?.({ live: false, why, retryAt: Date.now() + pause })
    await rest(pause, options)
  }
}

/** Stands around an error after which it makes no sense to try again. */
class Final extends Error {
  constructor(override readonly cause: Error) {
    super(cause.message)
  }
}

function rest(ms: number, { signal, hurry }: FollowOptions): Promise<void> {
  return new Promise((resolve) => {
    const done = () => {
      clearTimeout(timer)
      signal.removeEventListener("abort", done)
      off?.()
      resolve()
    }
    const timer = setTimeout(done, ms)
    signal.addEventListener("abort", done, { once: true })
    const off = hurry?.(done)
  })
}

/** Server-sent events, as the HTML standard writes them, until the stream ends or says nothing for too long. */
async function* readEvents(
  body: ReadableStream<Uint8Array>,
  signal: AbortSignal,
): AsyncGenerator<{ id?: string; event: string; data: string }> {
  const decoder = new TextDecoder()
  let text = ""
  const reader = body.getReader()
  // fetch keeps only a weak hold of what its signal would break off: a stream that lasts may not hear of it.
  signal.addEventListener("abort", () => void reader.cancel().catch(() => undefined), { once: true })
  for (;;) {
    const { done, value } = await withinSilence(reader)
    if (done) return
    text += decoder.decode(value, { stream: true })
    if (text.length > longestEvent && !text.includes("\n\n")) throw new Error("What comes is not the live stream.")
    for (let end = text.indexOf("\n\n"); end !== -1; end = text.indexOf("\n\n")) {
      const fields: { [name: string]: string } = {}
      for (const line of text.slice(0, end).split("\n")) {
        const at = line.indexOf(":")
        if (at > 0) fields[line.slice(0, at)] = line.slice(at + 1).trim()
      }
      text = text.slice(end + 2)
      if (fields.data !== undefined)
        yield { ...(fields.id ? { id: fields.id } : {}), event: fields.event ?? "message", data: fields.data }
    }
  }
}

type Piece = Awaited<ReturnType<ReadableStreamDefaultReader<Uint8Array>["read"]>>

async function withinSilence(reader: ReadableStreamDefaultReader<Uint8Array>): Promise<Piece> {
  let timer: ReturnType<typeof setTimeout> | undefined
  const silence = new Promise<never>((_resolve, reject) => {
    timer = setTimeout(() => reject(new Error("The live stream has gone silent.")), longestSilence)
  })
  try {
    return await Promise.race([reader.read(), silence])
  } finally {
    clearTimeout(timer)
  }
}
