import { createHash } from "node:crypto"
import { readFileSync, readlinkSync } from "node:fs"
import { hostname } from "node:os"
import { join } from "node:path"
import type { Logger } from "pino"
import type { Fault } from "../core/routing/bot.ts"
import { stopChannel, wakeResumed } from "../store/channels.ts"
import type { Database } from "../store/database.ts"
import { openDatabase, refusal } from "../store/database.ts"
import { pruneRefused, pruneSeen } from "../store/intake.ts"
import { beat, buryProcesses, processesOn } from "../store/leases.ts"
import { keepCourtesies } from "../store/messages.ts"
import { makePartitions } from "../store/partitions.ts"
import { keepProfile } from "../store/profiles.ts"
import { publishRelease } from "../store/releases.ts"
import { settleParkedDoubts } from "../store/statuses.ts"
import { Alerts } from "./alerts.ts"
import { Bell } from "./bell.ts"
import { faultLine, faultOfLoading, followFolder, readBotFolder } from "./botFolder.ts"
import { Bots } from "./bots.ts"
import { Bringing } from "./bringing.ts"
import { ChannelCare } from "./channelCare.ts"
import type { KnownChannel } from "./channels.ts"
import { Channels } from "./channels.ts"
import type { Alarm, OutgoingCall } from "../core/channels/kind.ts"
import { kindOf } from "../core/channels/registry.ts"
import { Directory } from "./directory.ts"
import type { HostLimits } from "./hosts.ts"
import { hostLimits } from "./hosts.ts"
import { Inlet } from "./inlet.ts"
import { InlineAnswers } from "./inlineAnswers.ts"
import { keepable, perform } from "./perform.ts"
import { Journal } from "./journal.ts"
import { Learning } from "./learning.ts"
import { MediaFetcher } from "./media.ts"
import { People } from "./people.ts"
import { Poller } from "./poller.ts"
import { Seal } from "./seal.ts"
import { Sender } from "./sender.ts"
import { Teaching } from "./teaching.ts"
import { Turns } from "./turns.ts"
import { Uploads } from "./uploads.ts"

export type RoleName = "inlet" | "turns" | "sender" | "poller" | "api" | "console"

export interface EngineSettings {
  databaseUrl: string
  home: string
  sealKey: Buffer
  roles: ReadonlySet<RoleName>
  /** The built host script and SDK. */
  hostScript: string
  sdk: string
  /** A bot folder to follow on save. */
  botFolder?: string
  lane?: string
  hostLimits?: Partial<HostLimits>
  log: Logger
}

/** What the followed bot folder is like at the moment. */
export interface BotStatus {
  folder?: string
  bot?: string
  release?: string
  loadedAt?: Date
  /** What keeps the newest version from being taken; the one before still answers. */
  faults: Fault[]
}

/** Everything that works behind the service: assembled by the roles a process has. */
export class Engine {
  readonly self: string
  readonly database: Database
  readonly bell: Bell
  readonly seal: Seal
  readonly channels: Channels
  readonly directory: Directory
  readonly bots: Bots
  readonly inlet: Inlet
  readonly care: ChannelCare
  readonly turns: Turns | undefined
  readonly sender: Sender | undefined
  readonly poller: Poller | undefined
  readonly media: MediaFetcher
  readonly learning: Learning
  readonly bringing: Bringing
  readonly teaching: Teaching
  bot: BotStatus = { faults: [] }
  publicUrl = "http://127.0.0.1"
  private readonly machine = machineTag()
  private readonly journal: Journal
  private readingIn = false
  private readonly timers: NodeJS.Timeout[] = []
  private unfollow: (() => void) | undefined
  private loading: Promise<void> = Promise.resolve()

  constructor(readonly settings: EngineSettings) {
    const { roles, log } = settings
    this.self = `${this.machine}.${process.pid}.${Date.now().toString(36)}`
    const database = (this.database = openDatabase(settings.databaseUrl))
    const bell = (this.bell = new Bell(settings.databaseUrl))
    const seal = (this.seal = new Seal(settings.sealKey))
    const channels = (this.channels = new Channels(database, seal, () => this.publicUrl))
    const directory = (this.directory = new Directory(database))
    const self = this.self
    this.bots = new Bots(database, join(settings.home, "releases"), settings.hostScript, {
      ...hostLimits,
      ...settings.hostLimits,
    })
    const inline = new InlineAnswers()
    this.learning = new Learning({ database, channels, seal, bell })
    this.bringing = new Bringing({
      database,
      channels,
      seal,
      bell,
      log,
      takeIn: (known, id, call, note) => this.inlet.takeIn(known, id, call, note),
    })
    const alerts = new Alerts({ database, channels, bell, log })
    if (roles.has("sender"))
      this.sender = new Sender({
        database,
        channels,
        directory,
        uploads: new Uploads(database),
        inline,
        bell,
        alerts,
        log,
        self,
      })
    if (roles.has("turns")) {
      this.turns = new Turns({
        database,
        channels,
        bots: this.bots,
        sender: this.sender,
        people: new People(database, directory),
        inline,
        bell,
        log,
        self,
        courtesy: (message, known, address, calls) => void this.courtesy(message, known, address, calls),
      })
    }
    const turns = this.turns
    this.journal = new Journal(join(settings.home, "journal"), self)
    this.inlet = new Inlet({
      journal: this.journal,
      learning: this.learning,
      bringing: this.bringing,
      inline,
      database,
      channels,
      directory,
      seal,
      bell,
      log,
      self,
      brought: () => this.media.wake(),
      proven: (channel, proofs) => void this.proven(channel, proofs),
      alarmed: (channel, alarm) => void this.alarmed(alerts, channel, alarm),
      ...(turns ? { claimed: (claims) => turns.take(claims), behind: () => turns.behind } : {}),
    })
    if (roles.has("poller"))
      this.poller = new Poller({ database, channels, inlet: this.inlet, alerts, bell, log, self })
    this.media = new MediaFetcher({ database, channels, bell, log })
    this.care = new ChannelCare({
      database,
      channels,
      seal,
      bell,
      poller: () => this.poller,
      publicUrl: () => this.publicUrl,
      bringing: this.bringing,
    })
    this.teaching = new Teaching({
      database,
      channels,
      bell,
      care: this.care,
      learning: this.learning,
      inlet: this.inlet,
      folder: () => settings.botFolder,
    })
  }

  async start(): Promise<void> {
    await beat(this.database, { id: this.self, machine: this.machine, pid: process.pid })
    await this.bury()
    await this.bell.start()
    await this.channels.refresh()
    this.bell.on("channels", () => void this.channels.refresh().catch(() => undefined))
    await this.readJournal()
    if (this.settings.botFolder) {
      await this.loadBot()
      this.unfollow = followFolder(this.settings.botFolder, () => {
        this.loading = this.loading
          .then(() => this.loadBot())
          .catch((error: unknown) => this.settings.log.error({ err: error }, "the bot folder could not be read"))
      })
    }
    await this.sender?.start()
    this.turns?.start()
    this.poller?.start()
    if (this.turns) this.media.start()
    const every = (ms: number, run: () => Promise<unknown>) => {
      const timer = setInterval(() => {
        run().catch((error: unknown) => {
          if (refusal(error) !== "away")
            this.settings.log.error({ err: error }, "housekeeping failed; it is tried again")
        })
      }, ms)
      timer.unref()
      this.timers.push(timer)
    }
    every(2000, async () => {
      await beat(this.database, { id: this.self, machine: this.machine, pid: process.pid })
      await this.bury()
      await this.channels.refresh()
    })
    every(1000, () => this.readJournal())
    every(5000, () => wakeResumed(this.database))
    every(6 * 3_600_000, () => makePartitions(this.database, new Date()))
    every(5000, () => this.bringing.sweep(new Date()))
    every(600_000, () =>
      pruneRefused(
        this.database,
        this.channels.all().map(({ row }) => row.key),
        new Date(),
      ),
    )
    every(24 * 3_600_000, () => pruneSeen(this.database, new Date()))
  }

  /** Stops taking work, lets what runs end within the limit, gives the rest back. */
  async stop(limit = 10_000): Promise<void> {
    this.unfollow?.()
    this.timers.forEach(clearInterval)
    await this.poller?.stop()
    this.media.stop()
    await this.inlet.drained()
    await this.readJournal().catch(() => undefined)
    await this.journal.close().catch(() => undefined)
    await this.turns
      ?.stop(limit)
      .catch((error: unknown) => this.settings.log.error({ err: error }, "turns did not end in order"))
    await this.sender?.stop(limit)
    await this.bots.close()
    await buryProcesses(this.database, [this.self]).catch(() => undefined)
    await new Promise((resolve) => setTimeout(resolve, 60))
    await this.bell.stop()
    await this.database.destroy()
  }

  /** Takes in what was kept on local disk while the database was away, by this process or one that ended. */
  private async readJournal(): Promise<void> {
    if (this.readingIn || !this.settings.roles.has("inlet")) return
    this.readingIn = true
    try {
      const living = new Set((await processesOn(this.database, this.machine)).map((one) => one.id))
      for (const path of await this.journal.waiting(living)) {
        const taken = await this.journal.take(path)
        if (!taken) continue
        const { entries, broken } = taken
        await this.inlet.readIn(entries, new Date())
        await this.journal.forget(taken.path, broken)
        const { log } = this.settings
        log.warn(`read in ${entries.length} calls that were kept on local disk while the database was away`)
        if (broken > 0) log.error(`${broken} lines of ${path} cannot be read; the file is kept as ${taken.path}.broken`)
      }
    } finally {
      this.readingIn = false
    }
  }

  /** Reads the followed folder; a version that does not check leaves the one before in place. */
  async loadBot(): Promise<void> {
    const { botFolder, sdk, log } = this.settings
    if (!botFolder) return
    const reading = await readBotFolder(botFolder, sdk)
    const faults =
      "faults" in reading ? reading.faults : await this.faultsOfLoading(reading.ready.id, reading.ready.bundle)
    if ("faults" in reading || faults.length > 0) {
      this.bot = { ...this.bot, folder: botFolder, faults }
      const still = this.bot.release ? "The version before still answers." : "No bot answers until this is mended."
      log.error(
        `the bot folder ${botFolder} does not check. ${still}\n${faults.map((fault) => `  ${faultLine(fault)}`).join("\n")}`,
      )
      this.bell.ring("lanes")
      return
    }
    const { id, bot, bundle, profiles } = reading.ready
    let news = false
    for (const [name, source] of Object.entries(profiles))
      news = (await keepProfile(this.database, { name, source, origin: "folder" })) || news
    if (news) {
      await this.channels.refresh()
      this.bell.ring("channels")
    }
    const moved = await publishRelease(
      this.database,
      { id, bot: bot.bot, definition: bot, bundle },
      this.settings.lane ?? "live",
    )
    const mended = this.bot.faults.length > 0
    const changed = moved || this.bot.release !== id
    this.bot = {
      folder: botFolder,
      bot: bot.bot,
      release: id,
      loadedAt: changed ? new Date() : (this.bot.loadedAt ?? new Date()),
      faults: [],
    }
    // Made ready now rather than by the first turn that needs it.
    if (changed && this.turns) void this.bots.release(id).catch(() => undefined)
    if (changed || mended) {
      log.info(`the bot ${bot.bot} is loaded: release ${id}, ${bot.routes.length} routes`)
      this.bell.ring("lanes")
    }
  }

  private async faultsOfLoading(id: string, bundle: string | null): Promise<Fault[]> {
    if (bundle === null || this.bot.release === id) return []
    const error = await this.bots.tryOut(id, bundle)
    return error ? [faultOfLoading(error, this.settings.botFolder!)] : []
  }

  /** Calls that tell the provider a message was taken up. Made once and recorded; nothing waits for them. */
  private async courtesy(message: string, known: KnownChannel, address: string, calls: OutgoingCall[]): Promise<void> {
    const made = []
    for (const [at, call] of calls.entries()) {
      const startedAt = new Date()
      const answer = await perform(call, known.channel, address)
      const outcome = kindOf(known.row.kind).judge(call, answer, known.channel)
      made.push({
        message,
        attempt: at + 1,
        name: call.name,
        startedAt,
        outcome: outcome.outcome,
        ...("why" in outcome ? { why: outcome.why } : {}),
        ...("status" in answer ? { status: answer.status, answer: keepable(answer.body, known.channel) } : {}),
      })
    }
    await keepCourtesies(this.database, made).catch((error: unknown) =>
      this.settings.log.warn({ err: error }, "a courtesy call could not be recorded"),
    )
  }

  /** What was parked as a doubt and has arrived after all needs nobody any more. */
  private async proven(channel: string, proofs: { mark: string; providerId?: string }[]): Promise<void> {
    try {
      const settled = await settleParkedDoubts(this.database, channel, proofs)
      for (const conversation of settled) this.sender?.lineGrew(conversation, channel)
      if (settled.length > 0) this.bell.ring("sends")
      this.bell.ring("live")
    } catch (error) {
      if (refusal(error) !== "away") this.settings.log.error({ err: error }, "a doubt could not be settled")
    }
  }

  /** The provider says that the channel needs a person. */
  private async alarmed(alerts: Alerts, channel: string, alarm: Alarm): Promise<void> {
    try {
      const known = this.channels.get(channel)
      if (alarm.lockedOut) {
        await stopChannel(this.database, channel, { state: "locked out", reason: alarm.says, remedy: alarm.remedy })
        await this.channels.refresh()
        this.bell.ring("channels")
        this.bell.ring("live")
      }
      if (known) await alerts.raise(known, `The channel ${channel}: ${alarm.says}. ${alarm.remedy}`)
    } catch (error) {
      this.settings.log.error({ err: error, channel }, `an alarm could not be passed on: ${alarm.says}`)
    }
  }

  /** Frees what processes of this machine held that have ended without saying so. */
  private async bury(): Promise<void> {
    const others = await processesOn(this.database, this.machine)
    const dead = others.filter((one) => one.id !== this.self && (one.pid === process.pid || !isAlive(one.pid)))
    if (dead.length === 0) return
    await buryProcesses(
      this.database,
      dead.map((one) => one.id),
    )
    this.settings.log.warn(
      `took over from ${dead.length === 1 ? "a process" : `${dead.length} processes`} that ended without stopping`,
    )
    this.bell.ring("work")
    this.bell.ring("sends")
  }
}

/** Names the machine and its process numbers: only there does a process number say whether a process lives. */
function machineTag(): string {
  const parts = [hostname()]
  try {
    parts.push(readFileSync("/proc/sys/kernel/random/boot_id", "utf8"), readlinkSync("/proc/self/ns/pid"))
  } catch {
    parts.push("no /proc")
  }
  return createHash("sha256").update(parts.join("\n")).digest("hex").slice(0, 12)
}

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0)
    return true
  } catch (error) {
    return (error as { code?: string }).code === "EPERM"
  }
}
