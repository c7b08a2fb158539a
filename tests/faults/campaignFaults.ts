import { readFileSync, writeFileSync } from "node:fs"
import type { AddressInfo, Socket } from "node:net"
import { connect, createServer } from "node:net"
import { join } from "node:path"
import pg from "pg"

/** What a service's own clock and disk are like; read by the preload below. */
export interface Own {
  /** Milliseconds by which its clock is ahead. */
  ahead: number
  disk: "well" | "full" | "slow"
}

/**
 * Loaded into a service before anything else: a clock of the process's own, and a disk under its journal that is full or
 * slow. Which of them is read again and again from the file CAMPAIGN_OWN names.
 */
export const ownPreload = `
import { readFileSync } from "node:fs"
import promises from "node:fs/promises"
import { syncBuiltinESMExports } from "node:module"
let own = { ahead: 0, disk: "well" }
const look = () => { try { own = JSON.parse(readFileSync(process.env.CAMPAIGN_OWN, "utf8")) } catch {} }
look()
setInterval(look, 50).unref()
const Real = Date
globalThis.Date = class extends Real {
  constructor(...given) {
    if (given.length > 0) super(...given)
    else super(Real.now() + own.ahead)
  }
  static now() {
    return Real.now() + own.ahead
  }
}
const open = promises.open
promises.open = async (path, ...how) => {
  const handle = await open(path, ...how)
  if (!/journal/.test(String(path))) return handle
  const { appendFile, datasync, sync } = handle
  const slowly = (run) => async () => {
    if (own.disk === "slow") await new Promise((done) => setTimeout(done, 2500))
    return run.call(handle)
  }
  handle.appendFile = async (content) => {
    if (own.disk !== "full") return appendFile.call(handle, content)
    await appendFile.call(handle, String(content).slice(0, String(content).length >> 1))
    throw Object.assign(new Error("ENOSPC: no space left on device, write"), { code: "ENOSPC", syscall: "write" })
  }
  handle.datasync = slowly(datasync)
  handle.sync = slowly(sync)
  return handle
}
syncBuiltinESMExports()
`

export function setOwn(file: string, own: Own): void {
  writeFileSync(file, JSON.stringify(own))
}

/** The network between the services and their database. */
export interface Wire {
  port: number
  /** Milliseconds that whatever is said takes longer. */
  delay: number
  /** Breaks off what is open. */
  cut(): void
  /** What is open stays open, and nothing comes through any more. */
  swallow(): void
  stop(): void
}

export async function startWire(target: number): Promise<Wire> {
  const open = new Set<{ ends: Socket[]; swallowed: boolean }>()
  const server = createServer((near) => {
    const far = connect(target, "127.0.0.1")
    const line = { ends: [near, far], swallowed: false }
    open.add(line)
    for (const [from, to] of [
      [near, far],
      [far, near],
    ] as const) {
      let before = Promise.resolve()
      from.setNoDelay(true)
      from.on("data", (chunk) => {
        if (line.swallowed) return
        if (wire.delay === 0 && !line.swallowed) {
          void before.then(() => to.write(chunk))
          return
        }
        const until = new Promise<void>((done) => setTimeout(done, wire.delay))
        before = before.then(() => until).then(() => void (line.swallowed || to.write(chunk)))
      })
      from.on("error", () => undefined)
      from.on("close", () => {
        to.destroy()
        open.delete(line)
      })
    }
  })
  await new Promise<void>((done) => server.listen(0, "127.0.0.1", done))
  const wire: Wire = {
    port: (server.address() as AddressInfo).port,
    delay: 0,
    cut: () => open.forEach(({ ends }) => ends.forEach((end) => end.destroy())),
    swallow: () => open.forEach((line) => (line.swallowed = true)),
    stop: () => {
      wire.cut()
      server.close()
    },
  }
  return wire
}

/** The processes of a database server: the first, and those it has started. */
export function serverProcesses(home: string): number[] {
  const first = Number(readFileSync(join(home, "database/postmaster.pid"), "utf8").split("\n")[0])
  const children = readFileSync(`/proc/${first}/task/${first}/children`, "utf8").trim().split(/\s+/).filter(Boolean)
  return [first, ...children.map(Number)]
}

/** Sends a signal to each of them that still lives. */
export function signalAll(pids: number[], signal: NodeJS.Signals): void {
  for (const pid of pids) {
    try {
      process.kill(pid, signal)
    } catch {
      // It has ended meanwhile.
    }
  }
}

/** Lets the server take no more writes, or take them again. */
export async function setReadOnly(owner: string, isReadOnly: boolean): Promise<void> {
  const options = encodeURIComponent("-c default_transaction_read_only=off")
  const client = new pg.Client(`${owner}&options=${options}`)
  client.on("error", () => undefined)
  await client.connect()
  await client.query(
    isReadOnly
      ? "ALTER SYSTEM SET default_transaction_read_only = on"
      : "ALTER SYSTEM RESET default_transaction_read_only",
  )
  await client.query("SELECT pg_reload_conf()")
  await client.end()
}
