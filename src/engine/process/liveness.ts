import { createHash } from "node:crypto"
import { readFileSync, readlinkSync } from "node:fs"
import { hostname } from "node:os"
import type { Logger } from "pino"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import type { ProcessRow } from "../../store/leases.ts"
import { beat, buryProcesses, processesOn } from "../../store/leases.ts"
import { wallClock } from "./wallClock.ts"

/** The names of every service that runs in this process: nearly always one, but several share one in the tests. */
const here = new Set<string>()
let made = 0

/** Says that this process lives, and frees what processes of this machine held that ended without saying so. */
export class Liveness {
  private readonly machine = machineTag()
  /** This process's name among all that use the database. */
  readonly self = `${this.machine}.${process.pid}.${wallClock("name").getTime().toString(36)}${made++ || ""}`

  constructor(private readonly parts: { database: Database; bell: Bell; log: Logger }) {
    here.add(this.self)
  }

  /** Says that this process lives, and gives back what processes held that are gone: their claims need not run out. */
  async beat(): Promise<void> {
    const others = await beat(this.parts.database, { id: this.self, machine: this.machine, pid: process.pid })
    await this.takeOver(others)
  }

  /** The processes of this machine that were alive when they were last looked at, by name. */
  async living(): Promise<Set<string>> {
    return new Set((await processesOn(this.parts.database, this.machine)).map((one) => one.id))
  }

  private async takeOver(others: ProcessRow[]): Promise<void> {
    const { database, bell, log } = this.parts
    const dead = others.filter(({ id, pid }) => (pid === process.pid ? !here.has(id) : !isAlive(pid)))
    if (dead.length === 0) return
    await buryProcesses(
      database,
      dead.map((one) => one.id),
      true,
    )
    log.warn(
      `took over from ${dead.length === 1 ? "a process" : `${dead.length} processes`} that ended without stopping`,
    )
    bell.ring("work")
    bell.ring("sends")
  }

  /** Gives back everything this process still holds. */
  async leave(): Promise<void> {
    here.delete(this.self)
    await buryProcesses(this.parts.database, [this.self], false)
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
