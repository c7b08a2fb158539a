import type { IncomingMessage, ServerResponse } from "node:http"

/** Bytes of bodies that may be under way at once, from the first byte until their calls are answered. */
export const mostUnderWay = 64 * 1024 * 1024
/** Milliseconds in which a body must have come whole. */
const patience = 20_000

/** Why a body was not read: the status its caller hears. */
export class BodyRefused extends Error {
  constructor(readonly statusCode: 408 | 413 | 503) {
    super(`a body was refused with ${statusCode}`)
  }
}

interface Reading {
  size: number
  whole: boolean
  give: (status: 408 | 413 | 503) => void
}

/**
 * Reads the bodies of calls that anybody may make, within a budget. Where it is used up, the body that has been coming
 * for the longest gives way: one that is meant comes within moments, one that is held open to take up memory does not.
 */
export class Bodies {
  /** In the order in which they began. */
  private readonly readings = new Set<Reading>()
  private held = 0

  constructor(private readonly most = mostUnderWay) {}

  /** Bytes held at the moment. */
  get underWay(): number {
    return this.held
  }

  /**
   * Reads a body of at most so many bytes, or, where `cut` is set, only so many of it. Throws a BodyRefused.
   * It counts until its call was answered.
   */
  read(from: IncomingMessage, to: ServerResponse, given: { most: number; cut?: boolean }): Promise<Buffer> {
    const announced = Number(from.headers["content-length"] ?? NaN)
    if (announced > given.most && !given.cut) return Promise.reject(new BodyRefused(413))
    return new Promise<Buffer>((resolve, reject) => {
      const chunks: Buffer[] = []
      const reading: Reading = { size: 0, whole: false, give: (status) => end(new BodyRefused(status)) }
      let timer: NodeJS.Timeout | undefined
      this.readings.add(reading)
      const end = (error?: Error) => {
        if (reading.whole) return
        reading.whole = true
        clearTimeout(timer)
        from.off("data", hear).off("end", whole).off("error", end).off("close", gone)
        if (error === undefined) return resolve(chunks.length === 1 ? chunks[0]! : Buffer.concat(chunks, reading.size))
        chunks.length = 0
        this.free(reading)
        reject(error)
      }
      const whole = () => end()
      const gone = () => end(new BodyRefused(408))
      const hear = (chunk: Buffer) => {
        const over = reading.size + chunk.length > given.most
        if (over && !given.cut) return end(new BodyRefused(413))
        const kept = over ? chunk.subarray(0, given.most - reading.size) : chunk
        if (!this.room(kept.length, reading)) return end(new BodyRefused(503))
        reading.size += kept.length
        this.held += kept.length
        chunks.push(kept)
        if (over) {
          from.pause()
          return end()
        }
        // Most bodies are here with their first piece.
        timer ??= reading.size === announced ? undefined : setTimeout(() => end(new BodyRefused(408)), patience)
      }
      from.on("data", hear).on("end", whole).on("error", end).on("close", gone)
      // Whether it was answered, or its connection has gone.
      to.once("close", () => this.free(reading))
    })
  }

  private room(bytes: number, asking: Reading): boolean {
    if (this.held + bytes <= this.most) return true
    for (const reading of this.readings) {
      if (reading.whole || reading === asking) continue
      reading.give(503)
      if (this.held + bytes <= this.most) return true
    }
    return false
  }

  private free(reading: Reading): void {
    if (!this.readings.delete(reading)) return
    this.held -= reading.size
  }
}
