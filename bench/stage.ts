import type { ChildProcess } from "node:child_process"
import { fork, spawn } from "node:child_process"
import { readdirSync, readFileSync } from "node:fs"
import { createServer } from "node:net"
import { join, resolve } from "node:path"
import pg from "pg"
import { Client } from "../src/client/client.ts"
import { channelsFor, hookSecret } from "./calls.ts"
import type { FromLoad, ToLoad, Wave, WaveResult } from "./load.ts"

export const root = resolve(import.meta.dirname, "../..")
const built = (name: string) => join(root, "dist/bench", `${name}.js`)

/** A built process, and the first thing it says. */
async function begin<Said>(
  file: string,
  env: NodeJS.ProcessEnv,
): Promise<{ child: ChildProcess; said: Said; stop: () => Promise<void> }> {
  const child = fork(file, [], { env: { ...process.env, ...env }, stdio: ["ignore", "inherit", "inherit", "ipc"] })
  const ended = new Promise<void>((done) => child.once("exit", () => done()))
  const said = await new Promise<Said>((done, fail) => {
    child.once("message", (words) => done(words as Said))
    child.once("exit", (code) => fail(new Error(`${file} ended with ${code}`)))
  })
  return { child, said, stop: async () => (child.kill("SIGTERM"), ended) }
}

/** The crowd and the provider. */
export class Load {
  private constructor(
    readonly pid: number,
    readonly provider: string,
    private readonly child: ChildProcess,
    readonly stop: () => Promise<void>,
  ) {}

  static async start(): Promise<Load> {
    const { child, said, stop } = await begin<FromLoad & { provider: number }>(built("load"), {})
    return new Load(child.pid!, `http://127.0.0.1:${said.provider}`, child, stop)
  }

  run(wave: Wave): Promise<WaveResult> {
    return new Promise((done) => {
      this.child.once("message", (words) => done((words as FromLoad & { done: WaveResult }).done))
      this.child.send({ wave } satisfies ToLoad)
    })
  }
}

/** Something that takes messages and answers them, ready for a load. */
export interface Subject {
  name: string
  port: number
  path: string
  /** Processes whose processor time is its own. */
  pids: () => number[]
  /** Resolves once everything is recorded. */
  settled: () => Promise<void>
  stop: () => Promise<void>
}

export async function startHandwritten(databaseUrl: string, load: Load): Promise<Subject> {
  const { child, said, stop } = await begin<{ port: number }>(built("handwritten"), {
    DATABASE_URL: databaseUrl,
    PROVIDER: load.provider,
    SECRET: hookSecret,
  })
  // It answers only once everything is recorded.
  return {
    name: "hand-written",
    port: said.port,
    path: "/hook",
    pids: () => [child.pid!],
    settled: async () => undefined,
    stop,
  }
}

export interface WobbetSubject extends Subject {
  pid: number
  databaseName: string
  client: Client
  database: pg.Client
}

/**
 * A service that is up, and its token.
 *
 * @param from the checkout whose build is started
 */
export async function serve(
  home: string,
  databaseUrl: string,
  env: NodeJS.ProcessEnv,
  args: string[] = [],
  from = root,
): Promise<{ child: ChildProcess; port: number; token: string; stop: () => Promise<void> }> {
  const port = await freePort()
  const child = spawn(join(from, "bin/wobbet"), ["serve", ...args], {
    env: {
      ...process.env,
      WOBBET_HOME: home,
      WOBBET_PORT: String(port),
      DATABASE_URL: databaseUrl,
      WOBBET_LOG_LEVEL: "warn",
      ...env,
    },
    stdio: ["ignore", "pipe", "inherit"],
    cwd: from,
  })
  const ended = new Promise<void>((done) => child.once("exit", () => done()))
  await new Promise<void>((done, fail) => {
    child.stdout.on("data", (chunk) => String(chunk).includes("Wobbet is up") && done())
    void ended.then(() => fail(new Error("the service did not come up")))
  })
  const token = readFileSync(join(home, "token"), "utf8").trim()
  return { child, port, token, stop: async () => (child.kill("SIGTERM"), ended) }
}

/**
 * @param all every kind of channel, each under its own name, beside the one that is measured in all
 * @param bot another bot folder, whose endpoints are on this machine
 * @param from the checkout whose build is started
 */
export async function startWobbet(
  databaseUrl: string,
  home: string,
  load: Load,
  all = false,
  bot = join(root, "bench/bot"),
  from = root,
): Promise<WobbetSubject> {
  const env = { WOBBET_PRIVATE_NETWORKS: "127.0.0.1" }
  const { child, port, token, stop } = await serve(home, databaseUrl, env, ["--bot", bot], from)
  const client = new Client(`http://127.0.0.1:${port}`, token)
  const here = (await client.channels()).items.map((item) => item.key)
  for (const key of ["quay", "stuck"]) {
    if (here.includes(key)) continue
    await client.addChannel({
      kind: "telegram",
      key,
      // Faster than any load here: what is measured is Wobbet, not the pace it keeps.
      settings: { apiBase: load.provider, perSecond: 10_000, gather: 0 },
      secrets: { token: "7700900001:bench", hookSecret },
    })
  }
  for (const { kind, settings, secrets } of all ? channelsFor(load.provider, client.url) : []) {
    if (here.includes(kind)) continue
    await client.addChannel({ kind, key: kind, settings: { ...settings, perSecond: 10_000, gather: 0 }, secrets })
  }
  const database = new pg.Client({ connectionString: databaseUrl })
  await database.connect()
  const quiet = async () => {
    const { rows } = await database.query<{ busy: boolean }>(
      `SELECT EXISTS (SELECT 1 FROM work WHERE due_at < 'infinity') OR EXISTS (SELECT 1 FROM outbox o WHERE o.channel <> 'stuck') AS busy`,
    )
    return !rows[0]!.busy
  }
  return {
    name: "Wobbet",
    port,
    path: "/in/quay",
    pid: child.pid!,
    databaseName: /\/(\w+)(?:\?|$)/.exec(databaseUrl)![1]!,
    client,
    database,
    pids: () => [child.pid!, ...childrenOf(child.pid!)],
    settled: async () => {
      while (!(await quiet())) await new Promise((done) => setTimeout(done, 20))
    },
    stop: async () => {
      await database.end()
      await stop()
    },
  }
}

export async function freePort(): Promise<number> {
  return new Promise((done) => {
    const probe = createServer()
    probe.listen(0, "127.0.0.1", () => {
      const { port } = probe.address() as { port: number }
      probe.close(() => done(port))
    })
  })
}

/** Seconds of processor time a process and its ended children have used (proc(5), clock ticks of 10 ms). */
export function processorTime(pid: number): number {
  try {
    const fields = readFileSync(`/proc/${pid}/stat`, "utf8")
      .replace(/^.*\) /, "")
      .split(" ")
    return (Number(fields[11]) + Number(fields[12])) / 100
  } catch {
    return 0
  }
}

export function childrenOf(pid: number): number[] {
  return readdirSync("/proc")
    .filter((name) => /^\d+$/.test(name))
    .map(Number)
    .filter((one) => {
      try {
        return (
          readFileSync(`/proc/${one}/stat`, "utf8")
            .replace(/^.*\) /, "")
            .split(" ")[1] === String(pid)
        )
      } catch {
        return false
      }
    })
}

/** Of PostgreSQL's processes those that work for a database, as their titles tell. */
export function workFor(database: string, pids: number[]): number[] {
  return pids.filter((pid) => {
    try {
      return readFileSync(`/proc/${pid}/cmdline`, "utf8").includes(` ${database} `)
    } catch {
      return false
    }
  })
}

/** Megabytes a process holds in memory. */
export function memoryOf(pid: number): number {
  return Number(/VmRSS:\s+(\d+)/.exec(readFileSync(`/proc/${pid}/status`, "utf8"))?.[1] ?? 0) / 1024
}
