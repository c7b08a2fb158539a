import { join } from "node:path"
import type { Logger } from "pino"
import { sumUpTally } from "../store/tally.ts"
import { pruneSessions } from "../store/access.ts"
import { Bell } from "../store/bell.ts"
import { wakeResumed } from "../store/channels.ts"
import type { Database } from "../store/database.ts"
import { openDatabase } from "../store/database.ts"
import { analyseWhole, makePartitions } from "../store/partitions.ts"
import { releaseOfChannel } from "../store/releases.ts"
import { pruneLeftovers, pruneRefused, pruneSeen } from "../store/retention.ts"
import { AccountWatch } from "./care/accountWatch.ts"
import { DeskNotices } from "./care/deskNotices.ts"
import { GiveBack } from "./care/giveBack.ts"
import { ChannelCare } from "./care/channelCare.ts"
import { Profiles } from "./care/profiles.ts"
import { QueueWatch } from "./care/queueWatch.ts"
import { Channels } from "./channels.ts"
import type { FolderSource } from "./handlers/folderReader.ts"
import type { BotStatus } from "./handlers/followed.ts"
import { FollowedFolder } from "./handlers/followed.ts"
import type { HostLimits } from "./handlers/hostProcess.ts"
import { hostLimits } from "./handlers/hostProcess.ts"
import { Housing } from "./handlers/housing.ts"
import { HandlerFault } from "./handlers/handler.ts"
import { mustFit } from "./handlers/stateSchema.ts"
import { NamedSecrets } from "./handlers/namedSecrets.ts"
import { Releases } from "./handlers/releases.ts"
import { Identities } from "./identities.ts"
import { Caller } from "./elsewhere/caller.ts"
import { Growing } from "./elsewhere/growing.ts"
import { Lending } from "./elsewhere/lending.ts"
import { Forwarding } from "./inlet/forwarding.ts"
import { Inlet } from "./inlet/inlet.ts"
import { localDisk } from "./inlet/journalDisk.ts"
import { Journal } from "./inlet/journal.ts"
import type { FileRead } from "./inlet/journalReader.ts"
import { JournalReader } from "./inlet/journalReader.ts"
import { Poller } from "./inlet/poller.ts"
import { Talking } from "./models/talking.ts"
import { Sampling } from "./inlet/sampling.ts"
import { MediaFetcher } from "./media/media.ts"
import { Uploads } from "./media/uploads.ts"
import { Directory } from "./people/directory.ts"
import { Applications } from "./notices/applications.ts"
import { Notices } from "./notices/notices.ts"
import { DeskTurns } from "./people/deskTurn.ts"
import { Forgetting } from "./people/forgetting.ts"
import { Blocked } from "./people/blocked.ts"
import { Joining } from "./people/joining.ts"
import { People } from "./people/people.ts"
import { Disk } from "./process/disk.ts"
import { Errands } from "./process/errands.ts"
import type { Repeated } from "./process/every.ts"
import { Figures } from "./process/figures.ts"
import { Housekeeping } from "./process/housekeeping.ts"
import { Liveness } from "./process/liveness.ts"
import { Relaying } from "./relays/relaying.ts"
import { Documents } from "./care/documents.ts"
import { Renderer } from "./replies/renderer.ts"
import { Seal } from "./seal.ts"
import { Alerts } from "./sender/alerts.ts"
import { Courtesies } from "./sender/courtesies.ts"
import { HeldCalls } from "./sender/heldCalls.ts"
import { Proofs } from "./sender/proofs.ts"
import { Sender } from "./sender/sender.ts"
import { Timers } from "./timers/timers.ts"
import { Turns } from "./turns/turns.ts"
import { wallClock } from "./process/wallClock.ts"

export type RoleName = "inlet" | "turns" | "sender" | "poller" | "api" | "console"

export interface EngineSettings {
  databaseUrl: string
  home: string
  sealKey: Buffer
  roles: ReadonlySet<RoleName>
  /** The built host script and SDK. */
  hostScript: string
  sideScript: string
  sdk: string
  /** Folders outside a bot's own that code may be taken from. */
  botRoots: string[]
  /** A bot folder to follow on save. */
  botFolder?: string
  lane?: string
  hostLimits?: Partial<HostLimits>
  /** Private networks that endpoints of bots may lie in, as addresses or in CIDR notation. */
  networks: string[]
  /** Bytes of disk below which no media are fetched any more. */
  leastDisk: number
  log: Logger
}

/** Seconds a statement of the engine may take before the database counts as away. */
const statementLimit = 15

/** Connections and seconds for what people ask through the API: a few slow lists hold up no message. */
const reading = { most: 6, limit: 10 }

/** Everything that works behind the service: put together by the roles a process has. */
export class Engine {
  readonly self: string
  readonly database: Database
  /** For what is only looked at. */
  readonly reading: Database
  readonly bell: Bell
  readonly seal: Seal
  readonly channels: Channels
  readonly inlet: Inlet
  readonly care: ChannelCare
  readonly sender: Sender | undefined
  readonly forwarding: Forwarding
  readonly profiles: Profiles
  readonly disk: Disk
  readonly figures: Figures
  readonly renderer: Renderer
  private readonly documents: Documents
  private readonly alerts: Alerts
  readonly forgetting: Forgetting
  readonly joining: Joining
  readonly secrets: NamedSecrets
  readonly lending: Lending
  readonly notices: Notices
  private readonly proofs: Proofs
  private readonly relaying: Relaying
  readonly applications: Applications
  /** Bytes of calls' bodies under way, told by whoever reads them. */
  bodiesUnderWay = () => 0
  publicUrl = "http://127.0.0.1"
  private readonly liveness: Liveness
  /** Where calls wait while the database is away. */
  readonly journal: Journal
  private readonly journalReader: JournalReader
  private readonly releases: Releases
  private readonly turns: Turns | undefined
  private readonly caller: Caller
  private readonly blocked: Blocked
  private readonly directory: Directory
  private readonly givingBack: GiveBack | undefined
  private readonly deskNotices: DeskNotices | undefined
  private readonly timers: Timers | undefined
  private readonly poller: Poller | undefined
  private readonly media: MediaFetcher
  private readonly followed: FollowedFolder | undefined
  private readonly errands: Errands
  private readonly housekeeping: Housekeeping
  /** What is done when it is due and has no part of its own for that. */
  private ownErrands: Repeated[] = []
  private readonly accounts: AccountWatch | undefined
  private readonly queues: QueueWatch

  constructor(readonly settings: EngineSettings) {
    const { roles, log, home, databaseUrl } = settings
    const database = (this.database = openDatabase(databaseUrl, { limit: statementLimit }))
    this.reading = openDatabase(databaseUrl, reading)
    const disk = (this.disk = new Disk(home, settings.leastDisk))
    const bell = (this.bell = new Bell(databaseUrl))
    const liveness = (this.liveness = new Liveness({ database, bell, log }))
    const self = (this.self = liveness.self)
    const seal = (this.seal = new Seal(settings.sealKey))
    const channels = (this.channels = new Channels(database, seal, () => this.publicUrl))
    const directory = (this.directory = new Directory(database, (...at) => seal.mark(...at)))
    const identities = new Identities({ database, channels, bell })
    const releases = (this.releases = new Releases(database, Housing.prepare(home, settings.hostScript, log), {
      ...hostLimits,
      ...settings.hostLimits,
    }))
    const figures = (this.figures = new Figures({
      database,
      reading: this.reading,
      hosts: () => releases.hosts,
      bodies: () => this.bodiesUnderWay(),
    }))
    this.documents = new Documents(settings.sideScript)
    const renderer = (this.renderer = new Renderer(settings.sideScript))
    const heldCalls = new HeldCalls()
    const alerts = (this.alerts = new Alerts({ database, channels, bell, log }))
    const errands = (this.errands = new Errands({ database, bell, log, self }))
    const shared = { database, channels, bell, log, self, figures }
    this.sender = roles.has("sender")
      ? new Sender({ ...shared, errands, directory, uploads: new Uploads(database), heldCalls, alerts })
      : undefined
    const people = new People(database, directory)
    const blocked = (this.blocked = new Blocked(database, bell))
    const secrets = (this.secrets = new NamedSecrets({ database, bell, seal }))
    const desk = new DeskTurns({ database, bell, publicUrl: () => this.publicUrl })
    this.joining = new Joining({ database, bell, seal })
    this.forgetting = new Forgetting({ database, bell, seal, self, log, home })
    this.lending = new Lending({ database, bell })
    const caller = (this.caller = new Caller({
      ...{ database, secrets, seal, bell, errands, figures, log, self },
      publicUrl: () => this.publicUrl,
      networks: settings.networks,
      talking: new Talking({ database, releases, networks: settings.networks }),
      growing: new Growing({ database, channels }),
    }))
    const courtesies = new Courtesies({ database, log })
    const turns = (this.turns = roles.has("turns")
      ? new Turns({
          ...{ ...shared, errands, releases, renderer, people, courtesies, heldCalls },
          sender: this.sender,
          blocked,
          joining: this.joining,
          desk,
          alerts,
          secrets,
          caller,
          follows: settings.botFolder !== undefined,
        })
      : undefined)
    this.givingBack = turns && new GiveBack({ database, releases, bell })
    this.deskNotices =
      turns && new DeskNotices({ database, channels, releases, bell, log, desk, markOf: (...of) => seal.mark(...of) })
    this.notices = new Notices({
      ...{ database, channels, releases, renderer, bell, errands, log },
      markOf: (...of) => seal.mark(...of),
    })
    this.relaying = new Relaying({
      ...{ database, channels, renderer, bell, errands, log },
      markOf: (...of) => seal.mark(...of),
    })
    this.applications = new Applications({ database, secrets, notices: this.notices, log })
    this.timers = turns && new Timers({ database, releases, bell, errands })
    const media = (this.media = new MediaFetcher({ database, channels, bell, errands, log, disk }))
    const sampling = new Sampling({ database, channels, seal, bell })
    const proofs = (this.proofs = new Proofs({ ...shared, sender: this.sender, alerts }))
    const forwarding = (this.forwarding = new Forwarding({
      ...shared,
      seal,
      takeIn: (known, id, call, note) => this.inlet.takeIn(known, id, call, note),
    }))
    this.journal = new Journal(localDisk(join(home, "journal")), self)
    const inlet = (this.inlet = new Inlet({
      ...shared,
      journal: this.journal,
      sampling,
      forwarding,
      heldCalls,
      directory,
      identities,
      seal,
      mediaCame: () => media.wake(),
      proven: (channel, marks) => void proofs.proven(channel, marks),
      alarmed: (channel, alarm) => void proofs.alarmed(channel, alarm),
      recovered: (channel, says) => void proofs.recovered(channel, says),
      ...(turns ? { claimed: (claims) => turns.take(claims), behind: () => turns.behind } : {}),
    }))
    this.journalReader = new JournalReader({ journal: this.journal, inlet, liveness, log })
    const poller = (this.poller = roles.has("poller") ? new Poller({ ...shared, inlet, alerts }) : undefined)
    const publicUrl = () => this.publicUrl
    this.queues = new QueueWatch({ database, channels, alerts, self })
    this.accounts = roles.has("sender") ? new AccountWatch({ ...shared, identities, alerts }) : undefined
    const care = (this.care = new ChannelCare({
      alerts,
      database,
      channels,
      identities,
      seal,
      bell,
      poller: () => poller,
      publicUrl,
      forwarding,
      inlet: () => inlet,
    }))
    const folder = settings.botFolder
    this.profiles = new Profiles({
      ...{ database, channels, bell, care, sampling, inlet },
      documents: this.documents,
      folder: () => folder,
    })
    this.followed =
      folder === undefined
        ? undefined
        : new FollowedFolder({
            ...shared,
            releases,
            secrets,
            folder,
            from: this.folderSource,
            lane: settings.lane ?? "live",
            takesTurns: turns !== undefined,
          })
    this.housekeeping = new Housekeeping({ database, log, self, rounds: this.rounds(), chores: this.chores() })
  }

  /** What bot folders are read with. */
  get folderSource(): FolderSource {
    const { sdk, home, botRoots } = this.settings
    return { sdk, home, roots: botRoots }
  }

  /** What is wrong with a state by the schema of the bot that answers a channel, where it has one. */
  async stateFault(channel: string, state: { [field: string]: unknown }): Promise<string | undefined> {
    const id = await releaseOfChannel(this.database, channel)
    return this.releases.with(id ?? null, async (release) => {
      if (!release) return undefined
      try {
        await mustFit(release, state)
        return undefined
      } catch (error) {
        if (error instanceof HandlerFault) return error.error.message
        throw error
      }
    })
  }

  /** The bot folder this process follows, as it is at the moment. */
  get bot(): BotStatus {
    return this.followed?.status ?? { faults: [], notes: [] }
  }

  async start(): Promise<void> {
    await this.liveness.beat()
    await this.bell.start()
    await this.channels.refresh()
    await this.blocked.refresh()
    await this.forgetting.remember()
    this.bell.on("channels", () => {
      const held = this.channels.refresh().then(() => this.alerts.holdUnaddressed())
      void held.catch(() => undefined)
    })
    this.bell.on("people", () => this.directory.lookAgain())
    this.bell.on("lanes", () => void this.releases.follow().catch(() => undefined))
    if (this.settings.roles.has("inlet"))
      // A folder that cannot be read must not silence everybody: it is tried again with every round.
      await this.journalReader
        .read()
        .catch((error: unknown) => this.settings.log.error({ err: error }, "the local journal could not be read in"))
    await this.followed?.start()
    await this.releases.follow()
    await this.alerts.holdUnaddressed()
    await this.sender?.start()
    if (this.turns) this.caller.start()
    this.turns?.start()
    this.timers?.start()
    if (this.turns) this.notices.start()
    if (this.turns) this.relaying.start()
    this.poller?.start()
    if (this.turns) this.media.start()
    const desk = this.deskNotices
    this.ownErrands = [
      this.errands.whenDue(
        "forgettings",
        () => this.forgetting.look(),
        "a person could not be forgotten; it is tried again",
      ),
      ...(desk ? [this.errands.whenDue("desk", () => desk.look(), "a desk could not be told; it is tried again")] : []),
    ]
    this.errands.start()
    this.housekeeping.start()
  }

  /** Reads in what waits on local disk, files that are kept for damage included. */
  readJournal(): Promise<FileRead[]> {
    return this.journalReader.read(true)
  }

  /** Stops taking work, lets what runs end within the limit, gives the rest back. */
  async stop(limit = 10_000): Promise<void> {
    const { log } = this.settings
    this.followed?.stop()
    await this.errands.stop()
    await Promise.all(this.ownErrands.map((errand) => errand.stop()))
    await this.housekeeping.stop()
    await this.poller?.stop()
    await this.media.stop()
    await this.inlet.drained()
    if (this.settings.roles.has("inlet")) await this.journalReader.read().catch(() => undefined)
    await this.journal.close().catch(() => undefined)
    await this.timers?.stop()
    await this.notices.stop()
    await this.relaying.stop()
    const ended = this.turns
      ?.stop(limit)
      .catch((error: unknown) => log.error({ err: error }, "turns did not end in order"))
    await Promise.all([ended, this.caller.stop(limit)])
    await this.sender?.stop(limit)
    this.renderer.close()
    this.documents.close()
    await this.releases.close()
    await this.liveness.leave().catch(() => undefined)
    await this.bell.stop()
    await Promise.all([this.database.destroy(), this.reading.destroy()])
  }

  private rounds(): { every: number; run: () => Promise<unknown> }[] {
    const { liveness, channels, releases, forwarding, journalReader, database } = this
    return [
      {
        every: 2000,
        run: async () => {
          await liveness.beat()
          await channels.refresh()
          await this.blocked.refresh()
        },
      },
      ...(this.settings.roles.has("inlet") ? [{ every: 1000, run: () => journalReader.read() }] : []),
      { every: 5000, run: () => wakeResumed(database) },
      { every: 5000, run: async () => this.givingBack?.look() },
      { every: 2000, run: async () => this.accounts?.look() },
      { every: 5000, run: () => this.queues.look(wallClock("figure")) },
      { every: 5000, run: () => forwarding.sweep(wallClock("until")) },
      { every: 30_000, run: () => releases.follow() },
      { every: 86_400_000, run: async () => releases.sweep(wallClock("calendar")) },
    ]
  }

  private chores(): { name: string; every: number; run: (now: Date) => Promise<unknown> }[] {
    const { database, channels, proofs } = this
    const keys = () => channels.all().map(({ row }) => row.key)
    return [
      { name: "months ahead", every: 6 * 3600, run: (now) => makePartitions(database, now) },
      { name: "proven doubts", every: 60, run: () => proofs.lookAgain() },
      { name: "refused calls", every: 600, run: (now) => pruneRefused(database, keys(), now) },
      { name: "tally", every: 60, run: () => sumUpTally(database) },
      { name: "sessions", every: 3600, run: () => pruneSessions(database) },
      { name: "leftovers", every: 24 * 3600, run: () => pruneLeftovers(database) },
      { name: "keys of events", every: 24 * 3600, run: (now) => pruneSeen(database, now) },
      { name: "statistics", every: 24 * 3600, run: () => analyseWhole(this.settings.databaseUrl) },
    ]
  }
}
