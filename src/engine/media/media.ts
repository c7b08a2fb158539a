import { createHash } from "node:crypto"
import { setTimeout as pause } from "node:timers/promises"
import type { Logger } from "pino"
import { keyHosts } from "../../core/channels/keyHosts.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { Database } from "../../store/database.ts"
import type { DueMedia } from "../../store/media.ts"
import { keepContent, keptSince, mediaFailed, noteSaid, saidHere, takeDueMedia } from "../../store/media.ts"
import type { Bell } from "../../store/bell.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import type { Disk } from "../process/disk.ts"
import type { Errands } from "../process/errands.ts"
import type { Repeated } from "../process/every.ts"
import { download, NotFetched } from "../calls/download.ts"
import { requestOf } from "../calls/fill.ts"
import { perform } from "../calls/perform.ts"
import { wallClock } from "../process/wallClock.ts"

/** Pieces fetched at once by one process. */
const atOnce = 4
/** Seconds until another try, by the number of tries before: an address dies after minutes, an id after days. */
const pauses = [2, 10, 60, 300, 1800, 7200]

/** Fetches what people sent, beside the turns: no turn ever waits for it. */
export class MediaFetcher {
  private sweeping: Repeated | undefined
  private stopped = false
  private saidFull = -Infinity
  private readonly today = new Map<string, { at: number; bytes: number }>()

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      bell: Bell
      errands: Errands
      log: Logger
      disk: Disk
    },
  ) {}

  start(): void {
    const failed = "media could not be fetched; it is tried again"
    this.sweeping = this.parts.errands.whenDue("media", () => this.sweep(), failed)
  }

  /** Something to be fetched has come in. */
  wake(): void {
    void this.sweeping?.now()
  }

  /** Takes up nothing more. What is being fetched is fetched again by another process, should this one end first. */
  async stop(): Promise<void> {
    this.stopped = true
    if (this.sweeping) await Promise.race([this.sweeping.stop(), pause(2000, undefined, { ref: false })])
  }

  private async sweep(): Promise<void> {
    while (!this.stopped) {
      // What people send must not take the room that messages need: it is fetched once there is room again.
      if ((await this.parts.disk.look()).nearlyFull) return this.saysFull()
      const due = await takeDueMedia(this.parts.database, atOnce)
      await Promise.all(due.map((one) => this.fetch(one)))
      if (due.length > 0) this.parts.bell.ring("live")
      if (due.length < atOnce) return
    }
  }

  /** Bytes kept for a channel since midnight (UTC); read again every few seconds. */
  private async keptToday(channel: string): Promise<number> {
    const before = this.today.get(channel)
    if (before && performance.now() - before.at < 5000) return before.bytes
    const midnight = new Date(wallClock("calendar").setUTCHours(0, 0, 0, 0))
    const bytes = await keptSince(this.parts.database, channel, midnight)
    this.today.set(channel, { at: performance.now(), bytes })
    return bytes
  }

  private saysFull(): void {
    if (performance.now() - this.saidFull < 600_000) return
    this.saidFull = performance.now()
    this.parts.log.warn("the disk is nearly full: no pictures, sounds or files are fetched until there is room")
  }

  private async fetch(due: DueMedia): Promise<void> {
    const { database } = this.parts
    try {
      const known = this.parts.channels.get(due.channel)
      if (!known || !kindOf(known.row.kind).fetching)
        throw new NotFetched("this kind of channel gives no content", false)
      const said = /said\.invalid\/([0-9a-f]{64})$/.exec(due.ref)?.[1]
      if (said !== undefined && (await saidHere(database, due.message))) return await noteSaid(database, due, said)
      const { content, mime } = await this.content(due, known)
      const hash = createHash("sha256").update(content).digest("hex")
      await keepContent(database, due, { hash, mime, content })
      const today = this.today.get(due.channel)
      if (today) today.bytes += content.length
    } catch (error) {
      if (!(error instanceof NotFetched)) throw error
      await mediaFailed(database, due, error.message, error.again ? pauses[due.tries - 1] : undefined)
    }
  }

  private async content(due: DueMedia, known: KnownChannel): Promise<{ content: Buffer; mime: string }> {
    const fetching = kindOf(known.row.kind).fetching!
    const { settings } = known.row
    let address = due.ref
    let told: { mime?: string; size?: number } = {}
    const find = fetching.find?.(due.ref, known.channel)
    if (find) {
      const answer = await perform(find, known.channel, undefined)
      const found = fetching.readFind?.(answer, known.channel)
      if (!found) {
        const passing = "failure" in answer || answer.status === 429 || answer.status >= 500
        throw new NotFetched("the provider does not say where it lies", passing || due.tries < 3)
      }
      ;({ address, ...told } = found)
    }
    const limit = Number(settings.mediaLimit ?? 25) * 1_000_000
    const perDay = Number(settings.mediaPerDay ?? 1000) * 1_000_000
    if ((await this.keptToday(due.channel)) >= perDay)
      throw new NotFetched(
        `this channel's ${perDay / 1e6} MB of the day are used up; its setting mediaPerDay says how much is kept`,
        false,
      )
    if (told.size !== undefined && told.size > limit)
      throw new NotFetched(
        `it is larger than ${limit / 1e6} MB; the channel's setting mediaLimit says how much is kept`,
        false,
      )
    const { url, headers } = requestOf(fetching.fetch(address, known.channel), known.channel)
    const fetched = await download(url, headers, {
      limit,
      trusted: keyHosts(known.channel),
      networks: String(settings.fetchFrom ?? "")
        .split(/[,\s]+/)
        .filter(Boolean),
    })
    const mime = told.mime?.split(";")[0]!.trim() ?? fetched.mime
    // A page for signing in, where the content was asked for, says that the keys do not reach so far.
    if (fetched.mime === "text/html")
      throw new NotFetched(
        "a web page came instead of the content: do the channel's keys allow files to be read?",
        due.tries < 3,
      )
    if (!isKept(mime, settings.mediaTypes as string | undefined))
      throw new NotFetched(`its sort, ${mime}, is not kept; the channel's setting mediaTypes says what is`, false)
    return { content: fetched.content, mime }
  }
}

const never =
  /^(text\/html|application\/(xhtml\+xml|x-msdownload|x-sh|x-executable|vnd\.microsoft\.portable-executable))$/

function isKept(mime: string, types: string | undefined): boolean {
  if (types === undefined) return !never.test(mime)
  return types.split(",").some((one) => {
    const type = one.trim().toLowerCase()
    return type === mime || (type.endsWith("/*") && mime.startsWith(type.slice(0, -1)))
  })
}
