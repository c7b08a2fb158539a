import { join } from "node:path"
import type { Logger } from "pino"
import type { Fault } from "../../core/routing/bot.ts"
import { unroutedCases } from "../../core/routing/unrouted.ts"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { keepProfile } from "../../store/profiles.ts"
import { lanesKnown, publishRelease } from "../../store/releases.ts"
import type { Channels } from "../channels.ts"
import type { BotPackage } from "./botFolder.ts"
import { faultLine, faultOfLoading, followFolder, readBotFolder } from "./botFolder.ts"
import type { FolderSource } from "./folderReader.ts"
import type { NamedSecrets } from "./namedSecrets.ts"
import { secretsOf } from "./registry.ts"
import { shownPath } from "./shownPath.ts"
import type { Releases } from "./releases.ts"
import { wallClock } from "../process/wallClock.ts"

/** What the followed bot folder is like at the moment. */
export interface BotStatus {
  folder?: string
  bot?: string
  release?: string
  loadedAt?: Date
  /** What keeps the newest version from being taken; the one before still answers. */
  faults: Fault[]
  /** What is odd about the routes of the version that answers. */
  notes: Fault[]
}

/** The bot folder that this process follows: read at start and whenever something in it is saved. */
export class FollowedFolder {
  status: BotStatus = { faults: [], notes: [] }
  private unfollow: (() => void) | undefined
  private loading: Promise<void> = Promise.resolve()

  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      releases: Releases
      secrets: NamedSecrets
      bell: Bell
      log: Logger
      folder: string
      from: FolderSource
      lane: string
      /** Whether this process takes turns, so that a new release is made ready at once. */
      takesTurns: boolean
    },
  ) {}

  async start(): Promise<void> {
    await this.load()
    this.parts.bell.on("secrets", () => {
      if (this.status.faults.length > 0) this.loading = this.loading.then(() => this.load()).catch(() => undefined)
    })
    this.unfollow = followFolder(this.parts.folder, () => {
      this.loading = this.loading
        .then(() => this.load())
        .catch((error: unknown) => this.parts.log.error({ err: error }, "the bot folder could not be read"))
    })
  }

  stop(): void {
    this.unfollow?.()
  }

  /** Reads the folder; a version with faults leaves the one before in place. */
  private async load(): Promise<void> {
    const { folder, from } = this.parts
    const reading = await readBotFolder(folder, from)
    const faults =
      "faults" in reading
        ? reading.faults
        : [...(await this.faultsOfSecrets(reading.ready)), ...(await this.faultsOfLoading(reading.ready))]
    if ("ready" in reading && (faults.length > 0 || !this.parts.takesTurns))
      await this.parts.releases.letGo(reading.ready.id)
    if ("faults" in reading || faults.length > 0) await this.refuse(faults)
    else await this.take(reading.ready)
  }

  private async refuse(faults: Fault[]): Promise<void> {
    const { database, folder, lane, log, bell } = this.parts
    this.status = { ...this.status, folder, faults }
    // What answered before this process began answers still.
    const stands =
      this.status.release ?? (await lanesKnown(database).catch(() => [])).some((known) => known.lane === lane)
    const still = stands ? "The version before still answers." : "No bot answers until this is fixed."
    log.error(
      `the bot folder ${folder} has faults. ${still}\n${faults.map((fault) => `  ${faultLine(fault)}`).join("\n")}`,
    )
    bell.ring("lanes")
  }

  private async take({ id, bot, bundle, notes, profiles }: BotPackage): Promise<void> {
    const { database, releases, bell, log, folder, lane, takesTurns } = this.parts
    await this.keepProfiles(profiles)
    const moved = await publishRelease(database, { id, bot: bot.bot, definition: bot, bundle }, lane)
    const fixed = this.status.faults.length > 0
    const changed = moved || this.status.release !== id
    const loadedAt = changed ? wallClock("record") : (this.status.loadedAt ?? wallClock("record"))
    this.status = { folder, bot: bot.bot, release: id, loadedAt, faults: [], notes }
    // Made ready now rather than by the first turn that needs it.
    if (changed && takesTurns) void releases.prepare(id).catch(() => undefined)
    if (changed || fixed) {
      log.info(`the bot ${bot.bot} is loaded: release ${id}, ${bot.routes.length} routes`)
      if (notes.length > 0) log.warn(`about its routes:\n${notes.map((note) => `  ${faultLine(note)}`).join("\n")}`)
      bell.ring("lanes")
    }
  }

  private async keepProfiles(profiles: BotPackage["profiles"]): Promise<void> {
    const { database, channels, bell } = this.parts
    let news = false
    for (const [name, source] of Object.entries(profiles))
      news = (await keepProfile(database, { name, source, origin: "folder" })) || news
    if (!news) return
    await channels.refresh()
    bell.ring("channels")
  }

  /** Secrets that a route lists and that are not set. The folder is read again once they are. */
  private async faultsOfSecrets({ bot }: BotPackage): Promise<Fault[]> {
    const { secrets, lane, folder } = this.parts
    const handlers = [
      ...bot.routes,
      ...unroutedCases(bot.unrouted).map(({ handler }) => ({ name: "unrouted", handler })),
    ].map((route) => ({ name: route.name, takes: secretsOf(route, bot) }))
    const applications = Object.entries(bot.applications ?? {}).map(([name, { secret }]) => ({ name, takes: [secret] }))
    const missing = await secrets.missing(
      bot.bot,
      lane,
      [...handlers, ...applications].flatMap(({ takes }) => takes),
    )
    return [...new Set(missing)].map((name) => {
      const route = handlers.find(({ takes }) => takes.includes(name))
      const application = applications.find(({ takes }) => takes.includes(name))
      const who = route ? `the route "${route.name}" lists` : `the application "${application!.name}" has`
      return {
        file: shownPath(join(folder, "bot.yaml")),
        says: `${who} the secret ${name}, which is not set`,
        remedy: `Set it with "wobbet secret set ${name} --bot ${bot.bot}".`,
      }
    })
  }

  private async faultsOfLoading({ id, bundle }: BotPackage): Promise<Fault[]> {
    if (bundle === null || this.status.release === id) return []
    const error = await this.parts.releases.tryOut(id, bundle)
    return error ? [faultOfLoading(error, this.parts.folder)] : []
  }
}
