import type { ChildProcess } from "node:child_process"
import { execFileSync, spawn } from "node:child_process"
import { randomBytes } from "node:crypto"
import {
  chmodSync,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readdirSync,
  readFileSync,
  rmSync,
  writeFileSync,
} from "node:fs"
import { createServer } from "node:net"
import { tmpdir } from "node:os"
import { dirname, join, resolve } from "node:path"
import { Client } from "../../src/client/client.ts"
import type * as Inside from "./inside.ts"

export const root = resolve(import.meta.dirname, "../..")
const wobbet = join(root, "bin/wobbet")
/** The build with the fault points, or, to see a test fail, one that lacks a mechanism (scripts/without.mjs). */
const withFaults = join(root, process.env.WOBBET_BUILD ?? "dist/faults", "wobbet.js")

/** Everything a test started, ended after it in reverse. */
const endings: (() => Promise<unknown> | void)[] = []

/** Ends something with the tests, also where one of them failed before it came to that. */
export function atEnd(end: () => Promise<unknown> | void): void {
  endings.push(end)
}

export async function endAll(): Promise<void> {
  for (const end of endings.splice(0).reverse()) await end()
}

/** A database with today's tables: a copy of the one that was made before the first test. */
export function freshDatabase(): Promise<string> {
  return newDatabase("TEMPLATE wobbet_template")
}

/** A database with nothing in it. */
export function emptyDatabase(): Promise<string> {
  return newDatabase("")
}

async function newDatabase(like: string): Promise<string> {
  const server = `${process.env.TEST_DATABASE_SERVER!}/postgres`
  const name = `t_${randomBytes(6).toString("hex")}`
  const begun = performance.now()
  // Copied file by file: half of what the usual way takes, which writes it all to the log as well.
  await query(server, `CREATE DATABASE ${name} OWNER wobbet_service ${like} STRATEGY file_copy`)
  counts()?.databases.push(performance.now() - begun)
  const address = addressOf(name)
  endings.push(async () => {
    await (await inside()).forgetDatabase(address)
    await query(server, `DROP DATABASE ${name} WITH (FORCE)`)
  })
  return address
}

/** As the service reaches its own server: under its own role, and by socket where there is one. */
function addressOf(name: string): string {
  const server = process.env.TEST_DATABASE_SERVER!.replace(/\/\/[^@]*@/, `//${process.env.TEST_DATABASE_ROLE}@`)
  const sockets = process.env.TEST_DATABASE_SOCKETS
  return sockets ? `${server.replace(/@.*$/, "@")}/${name}?${sockets}` : `${server}/${name}`
}

/** Where a service lives that is ended and started again: all that outlives it. */
export async function placeFor(bot: Parameters<typeof tempFolder>[0]) {
  return { database: await freshDatabase(), bot: tempFolder(bot), home: tempFolder(), port: await freePort() }
}

/** A database server of a test's own, to be stopped and started under it: a copy of the one of all tests. */
export async function startDatabaseServer() {
  const home = tempFolder()
  chmodSync(home, 0o755)
  execFileSync("cp", ["-a", join(process.env.TEST_HOME!, "cluster"), join(home, "database")])
  const notes = JSON.parse(readFileSync(join(process.env.TEST_HOME!, "database.json"), "utf8")) as object
  writeFileSync(join(home, "database.json"), JSON.stringify({ ...notes, port: 0 }), { mode: 0o600 })
  const { startEmbedded } = await inside()
  let server = await startEmbedded(home)
  const pidFile = join(home, "database/postmaster.pid")
  const down = async () => {
    while (existsSync(pidFile)) await pause(20)
  }
  const stop = async (signal: NodeJS.Signals = "SIGINT") => {
    if (existsSync(pidFile)) process.kill(Number(readFileSync(pidFile, "utf8").split("\n")[0]), signal)
    await down()
  }
  endings.push(() => stop())
  return {
    home,
    /** Under the role that owns the server. */
    ownerUrl: (name: string) => server.ownerUrl(name)!,
    /** The address of a database, made empty if it is not there. */
    database: (name: string) => server.database(name),
    /** The address of a new database with today's tables. */
    async freshDatabase() {
      const name = `t_${randomBytes(6).toString("hex")}`
      await query(server.ownerUrl("postgres")!, `CREATE DATABASE ${name} OWNER wobbet_service TEMPLATE wobbet_template`)
      return server.database(name)
    },
    /** The server's own processes, the one that started the others first. */
    processes: () => {
      const parent = Number(readFileSync(pidFile, "utf8").split("\n")[0])
      return [parent, ...childrenOf(parent)]
    },
    stop,
    start: async () => {
      server = await startEmbedded(home)
    },
  }
}

function statOf(pid: number): string[] | undefined {
  try {
    return readFileSync(`/proc/${pid}/stat`, "utf8")
      .replace(/^.*\) /, "")
      .split(" ")
  } catch {
    return undefined
  }
}

export function childrenOf(pid: number): number[] {
  const all = readdirSync("/proc").filter((name) => /^\d+$/.test(name))
  return all.map(Number).filter((one) => statOf(one)?.[1] === String(pid))
}

/** How a process was started; empty for one that has just ended. */
function commandOf(pid: number): string {
  try {
    return readFileSync(`/proc/${pid}/cmdline`, "utf8")
  } catch {
    return ""
  }
}

/** The processes that run a service's handlers; those of all services in this process, where it has none of its own. */
export function hostsOf(service: Service | ServiceProcess): number[] {
  return childrenOf("child" in service ? service.child.pid! : process.pid).filter((pid) =>
    commandOf(pid).includes("/releases/host-"),
  )
}

/** One that has ended and that nobody has asked about yet counts as ended. */
export function isRunning(pid: number): boolean {
  return !/^[ZX]?$/.test(statOf(pid)?.[0] ?? "")
}

/** Resolves once nothing is left to do: no turn is due or under way, and nothing waits to be sent. */
export async function quiet(database: string, seconds = 30): Promise<void> {
  await eventually(
    async () => {
      const busy = "SELECT 1 FROM work WHERE due_at < 'infinity' UNION ALL SELECT 1 FROM outbox"
      return (await query(database, busy)).length === 0
    },
    "nothing to be left to do",
    seconds,
  )
}

/** Resolves once a service sends for the channel, so that a reply's first attempt starts with the commit of its turn. */
export async function takenUp(
  services: { said: () => string } | { said: () => string }[],
  channel: string,
): Promise<void> {
  const isTaken = () => [services].flat().some((one) => one.said().includes(`sends for ${channel} from now on`))
  await eventually(async () => isTaken(), "somebody to send for the channel")
}

/** How many transactions the service ends on its database in so many milliseconds: what it costs, whatever the machine. */
export async function transactionsIn(database: string, milliseconds: number): Promise<number> {
  const count = async () => {
    const [found] = await query<{ n: number }>(
      database,
      "SELECT (xact_commit + xact_rollback)::int AS n FROM pg_stat_database WHERE datname = current_database()",
    )
    return found!.n
  }
  const before = await count()
  await pause(milliseconds)
  return (await count()) - before
}

/** Looks into a database, where no surface of the service tells. */
export async function query<Row = { [column: string]: unknown }>(database: string, sql: string): Promise<Row[]> {
  return (await (await inside()).query(database, sql)) as Row[]
}

/** The ports below those that the system gives to calls that go out: those of each worker apart. */
const ports = { from: 12_000 + 2000 * ((Number(process.env.JEST_WORKER_ID ?? 1) - 1) % 9), count: 2000 }
let nextPort = Math.floor(Math.random() * ports.count)

/** One that nobody listens on, and that is given out once: what listens on it may come later, and again. */
export async function freePort(): Promise<number> {
  for (;;) {
    const port = ports.from + (nextPort++ % ports.count)
    const isFree = await new Promise<boolean>((done) => {
      const probe = createServer()
      probe.once("error", () => done(false))
      probe.listen(port, "127.0.0.1", () => probe.close(() => done(true)))
    })
    if (isFree) return port
  }
}

export function tempFolder(files: { [path: string]: string } = {}): string {
  const folder = mkdtempSync(join(tmpdir(), "wobbet-t-"))
  // As root, the users of the database and of the handlers pass through it.
  chmodSync(folder, 0o711)
  writeFiles(folder, files)
  endings.push(() => rmSync(folder, { recursive: true, force: true }))
  return folder
}

export function writeFiles(folder: string, files: { [path: string]: string }): void {
  for (const [path, text] of Object.entries(files)) {
    mkdirSync(dirname(join(folder, path)), { recursive: true })
    writeFileSync(join(folder, path), text)
  }
}

interface Running {
  child: ChildProcess
  /** The code or signal it ended with. */
  ended: Promise<number | NodeJS.Signals | null>
  said: () => string
  stop: (signal?: NodeJS.Signals) => Promise<number | NodeJS.Signals | null>
}

/** What Jest's environment gives every test file (see environment.mjs). */
const environment = globalThis as unknown as {
  /** Loads the built service, stand-ins and command line, to be run in this process. */
  loadInside: () => Promise<typeof Inside>
  /** Imports a package outside Jest's sandbox, where it is loaded once for all files and not for each. */
  importOutside: <Module>(name: string) => Promise<Module>
  /** What this file is known to execute where nothing notes it. */
  executed?: { shipped: boolean; console: boolean }
  recording?: {
    counts: { [what in "pauses" | "waits" | "databases"]: number[] } & {
      [what in "inside" | "processes" | "commands"]: { what: string; wall: number; processor: number }[]
    }
    processorOf: (pid: number) => number
  }
}
export const inside = () => environment.loadInside()

/** A large package, loaded once for all test files. */
export const outside = <Module>(name: string): Promise<Module> => environment.importOutside<Module>(name)

/** Says that what this file executes is not noted: the build that is shipped, or the console's pages. */
export function executes(what: "shipped" | "console"): void {
  if (environment.executed) environment.executed[what] = true
}

/** Where the time went, where that is recorded. */
const counts = () => environment.recording?.counts

/** Records what something took in this process. What else goes on in it at the same time counts, too. */
async function counted<T>(list: "inside" | "commands", what: string, run: () => Promise<T>): Promise<T> {
  if (!environment.recording) return run()
  const [wall, before] = [performance.now(), process.cpuUsage()]
  try {
    return await run()
  } finally {
    const { user, system } = process.cpuUsage(before)
    counts()![list].push({ what, wall: performance.now() - wall, processor: (user + system) / 1000 })
  }
}

/** Starts a command and waits until it says something. */
export async function start(
  args: string[],
  env: NodeJS.ProcessEnv,
  ready: RegExp,
  program = wobbet,
  user?: number,
): Promise<Running> {
  const begun = performance.now()
  if (program === wobbet) executes("shipped")
  const child = spawn(process.execPath, [program, ...args], {
    ...(user === undefined ? {} : { uid: user, gid: user }),
    env: { ...process.env, NO_COLOR: "1", ...env },
    stdio: ["ignore", "pipe", "pipe"],
    cwd: root,
  })
  let said = ""
  const ended = new Promise<number | NodeJS.Signals | null>((done) =>
    child.once("exit", (code, signal) => done(code ?? signal)),
  )
  const stop = async (signal: NodeJS.Signals = "SIGTERM") => {
    if (child.exitCode === null && child.signalCode === null) child.kill(signal)
    return ended
  }
  endings.push(() => stop())
  await new Promise<void>((done, fail) => {
    const hear = (chunk: Buffer) => {
      said += String(chunk)
      if (ready.test(said)) done()
    }
    child.stdout.on("data", hear)
    child.stderr.on("data", hear)
    void ended.then((code) => fail(new Error(`wobbet ${args[0]} ended with ${code}: ${said}`)))
  })
  counts()?.processes.push({
    what: args[0]!,
    wall: performance.now() - begun,
    processor: environment.recording!.processorOf(child.pid!) * 1000,
  })
  return { child, said: () => said, ended, stop }
}

/** Runs a command to its end, in this process: what it prints and its exit code are its own all the same. */
export async function run(
  args: string[],
  env: NodeJS.ProcessEnv = {},
): Promise<{ code: number | null; out: string; err: string }> {
  const { runInside } = await inside()
  return counted("commands", args[0]!, () => runInside(args, { ...process.env, NO_COLOR: "1", ...env }))
}

/** Runs a command to its end as people do, as a process: for exit codes, pipes and signals. */
export async function runProcess(
  args: string[],
  env: NodeJS.ProcessEnv = {},
  program = wobbet,
): Promise<{ code: number | null; out: string; err: string }> {
  executes("shipped")
  const child = spawn(process.execPath, [program, ...args], {
    env: { ...process.env, NO_COLOR: "1", ...env },
    stdio: ["ignore", "pipe", "pipe"],
    cwd: root,
  })
  let out = ""
  let err = ""
  child.stdout.on("data", (chunk) => (out += String(chunk)))
  child.stderr.on("data", (chunk) => (err += String(chunk)))
  const code = await new Promise<number | null>((done) => child.once("close", done))
  return { code, out, err }
}

export interface Service {
  client: Client
  token: string
  address: string
  home: string
  env: NodeJS.ProcessEnv
  said: () => string
  stop: () => Promise<unknown>
}

/** A service with a process of its own, which may be killed. */
export type ServiceProcess = Omit<Service, "stop"> & Running

interface ServiceOptions {
  bot?: string
  database?: string
  home?: string
  port?: number
  env?: NodeJS.ProcessEnv
}

/** Where a service lives, and all it is told by its environment. */
async function surroundings(options: ServiceOptions) {
  const home = options.home ?? tempFolder()
  const port = options.port ?? (await freePort())
  const env: NodeJS.ProcessEnv = {
    WOBBET_HOME: home,
    WOBBET_PORT: String(port),
    DATABASE_URL: options.database ?? (await freshDatabase()),
    // All processes of a test share keys and token.
    WOBBET_SEAL_KEY: "0f".repeat(32),
    WOBBET_LOG_LEVEL: "debug",
    ...options.env,
  }
  return { home, port, env }
}

/** Starts a service in this process: a quarter of what a process of its own costs. It cannot be killed. */
export async function startService(options: ServiceOptions = {}): Promise<Service> {
  const { home, port, env } = await surroundings(options)
  let said = ""
  const { serveInside } = await inside()
  const running = await counted("inside", "serve", () =>
    serveInside({ ...process.env, NO_COLOR: "1", ...env }, options.bot, (text) => (said += text)),
  )
  let stopped: Promise<void> | undefined
  const stop = () => (stopped ??= running.stop())
  endings.push(stop)
  const address = `http://127.0.0.1:${port}`
  const { token } = running
  const client = new Client(address, token)
  return { client, token, address, home, env: { ...env, WOBBET_URL: address }, said: () => said, stop }
}

/** Starts a service as a process: for what ends it, holds it up, or is to be seen from outside. */
export async function startProcess(
  options: ServiceOptions & {
    /** What `store/faults.ts` reads; given, the build with the fault points is started. */
    faults?: string
    /** Another build than the one in `dist`. */
    program?: string
    /** The user it runs under, where we are root. */
    user?: number
  } = {},
): Promise<ServiceProcess> {
  const { home, port, env } = await surroundings(options)
  if (options.faults !== undefined) env.WOBBET_FAULTS = options.faults
  const args = ["serve", ...(options.bot ? ["--bot", options.bot] : [])]
  const shipped = options.faults === undefined && process.env.WOBBET_BUILD === undefined
  const program = options.program ?? (shipped ? wobbet : withFaults)
  const running = await start(args, env, /Wobbet is up/, program, options.user)
  const token = readFileSync(join(home, "token"), "utf8").trim()
  const address = `http://127.0.0.1:${port}`
  return { ...running, client: new Client(address, token), token, address, home, env: { ...env, WOBBET_URL: address } }
}

export interface Standin {
  address: string
  post: <T = { [field: string]: unknown }>(path: string, body: object) => Promise<T>
  get: <T>(path: string) => Promise<T>
  stop: () => Promise<unknown>
}

/** @param given.pace whether it refuses what comes faster than the provider puts up with */
export async function startStandin(given: { officePort?: number; pace?: boolean } = {}): Promise<Standin> {
  const { officePort, pace = false } = given
  const port = await freePort()
  const office = officePort ?? (await freePort())
  const { standinsInside } = await inside()
  const running = await counted("inside", "standins", () => standinsInside({ telegram: port, office }, pace))
  let stopped: Promise<void> | undefined
  const stop = () => (stopped ??= running.stop())
  endings.push(stop)
  const address = `http://127.0.0.1:${port}`
  const read = async <T>(answer: Response): Promise<T> => {
    if (!answer.ok) throw new Error(`the stand-in answered ${answer.status}: ${await answer.text()}`)
    return (await answer.json()) as T
  }
  return {
    address,
    post: async (path, body) =>
      read(await fetch(`${address}/standin/${path}`, { method: "POST", body: JSON.stringify(body) })),
    get: async (path) => read(await fetch(`${address}/standin/${path}`)),
    stop,
  }
}

export interface Said {
  message_id: number
  text?: string
  caption?: string
  from?: { id: number; is_bot: boolean }
  message_thread_id?: number
  reply_markup?: { inline_keyboard: { text: string; callback_data?: string }[][] }
  [field: string]: unknown
}

/** A bot at the stand-in, connected as a channel, and a person to play. */
export class Stage {
  constructor(
    readonly service: Service,
    readonly standin: Standin,
    readonly bot: { username: string; token: string; id: number },
    readonly person: { id: number },
    readonly key: string,
  ) {}

  /**
   * @param settings of the channel; one that says nothing of `gather` takes every message as a turn of its own
   * @param kind of the channel: one that speaks as Telegram does
   */
  static async set(service: Service, standin: Standin, settings: object = {}, kind = "telegram"): Promise<Stage> {
    const username = `bot_${randomBytes(4).toString("hex")}`
    const key = username.replaceAll("_", "-")
    const bot = await standin.post<Stage["bot"]>("bots", { username, name: "Tern Point" })
    const person = await standin.post<{ id: number }>("people", { first_name: "Ines", language_code: "pt" })
    await service.client.addChannel({
      kind,
      key,
      settings: { apiBase: standin.address, gather: 0, ...settings },
      secrets: { token: bot.token },
    })
    await service.client.connectChannel(key)
    return new Stage(service, standin, bot, person, key)
  }

  say(text: string, more: object = {}): Promise<{ message: Said }> {
    return this.standin.post("say", { bot: this.bot.username, from: this.person.id, text, ...more })
  }

  send(what: object): Promise<{ message: Said }> {
    return this.standin.post("say", { bot: this.bot.username, from: this.person.id, ...what })
  }

  press(button: string): Promise<{ id: string }> {
    return this.standin.post("press", { bot: this.bot.username, from: this.person.id, button })
  }

  /** What the bot said in a chat so far. */
  async answers(chat: number = this.person.id): Promise<Said[]> {
    return (await this.standin.get<Said[]>(`chats/${chat}`)).filter((one) => one.from?.is_bot)
  }

  /** Waits until the bot has said so many things. */
  async answered(count: number, chat: number = this.person.id): Promise<Said[]> {
    return eventually(async () => {
      const answers = await this.answers(chat)
      return answers.length >= count ? answers : undefined
    }, `${count} answers`)
  }

  messages(query: object = {}) {
    return this.service.client.messages({ channel: this.key, ...query }).then((page) => page.items)
  }

  /**
   * What the bot has said in a chat, and what it may have said: replies that were under way when a service was killed,
   * and that are parked as doubts where the provider has not got them.
   */
  async saidOrDoubted(chat: number): Promise<(string | undefined)[]> {
    const said = (await this.answers(chat)).map(({ text }) => text)
    const doubts = (await this.messages({ doubtful: true, limit: 200 })).filter(
      ({ address }) => address === String(chat),
    )
    return [...said, ...doubts.map(({ text }) => text ?? undefined).filter((text) => !said.includes(text))]
  }
}

/** Runs all cases, some at once, and gives what came of each, to be looked at one by one. */
export async function allOf<Case, Found>(
  cases: readonly Case[],
  atOnce: number,
  run: (one: Case) => Promise<Found>,
): Promise<(() => Found)[]> {
  const found: (() => Found)[] = []
  let next = 0
  const line = async () => {
    while (next < cases.length) {
      const at = next++
      found[at] = await run(cases[at]!).then(
        (value) => () => value,
        (error: unknown) => () => {
          throw error
        },
      )
    }
  }
  await Promise.all(Array.from({ length: atOnce }, line))
  return found
}

/** Looks until there is something to see. */
export async function eventually<T>(
  look: () => Promise<T | undefined | false>,
  what: string,
  seconds = 30,
): Promise<T> {
  const begun = performance.now()
  let last: unknown
  while (performance.now() - begun < seconds * 1000) {
    try {
      const found = await look()
      if (found !== undefined && found !== false) {
        counts()?.waits.push(performance.now() - begun)
        return found
      }
    } catch (error) {
      last = error
    }
    // Soon at first, then less and less often: every look costs whoever is looked at.
    const waited = performance.now() - begun
    await new Promise((done) => setTimeout(done, Math.min(250, Math.max(20, waited / 4))))
  }
  throw new Error(`waited ${seconds} s for ${what}${last ? `: ${String(last)}` : ""}`)
}

export function pause(ms: number): Promise<unknown> {
  counts()?.pauses.push(ms)
  return new Promise((done) => setTimeout(done, ms))
}
