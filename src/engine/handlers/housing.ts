import type { ChildProcess } from "node:child_process"
import { execFileSync, spawn } from "node:child_process"
import { createHash } from "node:crypto"
import {
  chmodSync,
  chownSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  renameSync,
  rmSync,
  statSync,
  writeFileSync,
} from "node:fs"
import { dirname, join } from "node:path"
import type { Logger } from "pino"
import { reachablePlace, usersHere } from "../../store/otherUsers.ts"

/**
 * The user that hosts run under when we are root: the one of this name, where there is one, or else a number that no
 * user of the machine has. Never the one of PostgreSQL.
 */
const hostUser = { name: "wobbet-hosts", id: 64_180 }

/** What turns Node's permission model on, by the name this version has for it; the network stays open. */
const permissions = ["--permission", "--experimental-permission"]
  .filter((flag) => process.allowedNodeEnvironmentFlags.has(flag))
  .slice(0, 1)
  .concat(process.allowedNodeEnvironmentFlags.has("--allow-net") ? ["--allow-net"] : [])

/** Where handler hosts live: what they can read, and under which user they run. */
export class Housing {
  private readonly folder: string
  private script: string | undefined
  private guardian: ChildProcess | undefined
  /** The hosts that live. */
  private readonly watched = new Set<number>()

  /** @param user the hosts', where it is another than ours */
  private constructor(
    home: string,
    private readonly hostScript: string,
    readonly user: number | undefined,
  ) {
    this.folder = join(user === undefined ? home : reachablePlace(home), "releases")
  }

  static prepare(home: string, hostScript: string, log: Logger): Housing {
    const user = process.getuid?.() === 0 ? userForHosts() : undefined
    if (user === undefined || canRun(user)) return new Housing(home, hostScript, user)
    log.warn(
      `handlers run as root: another user cannot reach ${process.execPath}. Install Node where every user can run it, such as under /usr/local, or start Wobbet as another user.`,
    )
    return new Housing(home, hostScript, undefined)
  }

  /** Writes a bundle where hosts can load it; the name is its content's, since modules are never unloaded. */
  bundle(id: string, content: string): string {
    return this.keep(`${id}.mjs`, content)
  }

  /**
   * How a host for a bundle is started: with the permission model of Node (no files but the two it needs, no child
   * processes, threads or native addons), nothing of our environment, and, where we are root, under a user of its own.
   */
  start(bundle: string, memory: number) {
    const script = (this.script ??= this.ownScript())
    return {
      script,
      options: {
        ...(this.user === undefined ? {} : { uid: this.user, gid: this.user }),
        cwd: "/",
        env: { PATH: "/usr/local/bin:/usr/bin:/bin", TZ: process.env.TZ ?? "", LANG: "C.UTF-8" },
        execArgv: [
          "--enable-source-maps",
          `--max-old-space-size=${memory}`,
          ...permissions,
          `--allow-fs-read=${script}`,
          `--allow-fs-read=${bundle}`,
        ],
        stdio: ["ignore", "ignore", "ignore", "ipc"] as ["ignore", "ignore", "ignore", "ipc"],
      },
    }
  }

  /** Sees to it that a host ends when we do, even where we are killed and its own loop never ends. */
  watch(pid: number): void {
    this.watched.add(pid)
    if (this.guardian) this.guardian.stdin!.write(`+ ${pid}\n`)
    else this.startGuarding()
  }

  unwatch(pid: number): void {
    this.watched.delete(pid)
    this.guardian?.stdin!.write(`- ${pid}\n`)
  }

  close(): void {
    const { guardian } = this
    this.guardian = undefined
    guardian?.stdin!.end()
  }

  /** One that ends, because somebody killed it, is followed by another, which is told of all hosts. */
  private startGuarding(): void {
    const guardian = (this.guardian = startGuardian())
    guardian.once("exit", () => {
      if (this.guardian !== guardian) return
      this.guardian = undefined
      if (this.watched.size > 0) this.startGuarding()
    })
    for (const pid of this.watched) guardian.stdin!.write(`+ ${pid}\n`)
  }

  /** The host's own script, beside the bundles: where it was built, another user may not come. */
  private ownScript(): string {
    const content = readFileSync(this.hostScript, "utf8")
    const hash = createHash("sha256").update(content).digest("hex").slice(0, 12)
    return this.keep(`host-${hash}.mjs`, content)
  }

  /** Removes what was written before a time, but for the bundles that are in use. */
  sweep(olderThan: Date, inUse: ReadonlySet<string>): void {
    if (!existsSync(this.folder)) return
    for (const name of readdirSync(this.folder)) {
      const file = join(this.folder, name)
      const used = inUse.has(name.replace(/\.mjs$/, "")) || file === this.script
      if (!used && statSync(file).mtime < olderThan) rmSync(file, { force: true })
    }
  }

  private keep(name: string, content: string): string {
    // Others may pass through what lies above, and look into nothing.
    mkdirSync(dirname(this.folder), { recursive: true, mode: 0o711 })
    mkdirSync(this.folder, { recursive: true, mode: 0o700 })
    // The hosts' user reads what it is told the name of, and writes nothing: what it could put here we would follow.
    this.open(this.folder, 0o710)
    const file = join(this.folder, name)
    const draft = `${file}.${process.pid}`
    rmSync(draft, { force: true })
    writeFileSync(draft, content, { mode: 0o400, flag: "wx" })
    this.open(draft, 0o440)
    renameSync(draft, file)
    return file
  }

  /** Lets the hosts' user in as the group, where it is another than ours. */
  private open(path: string, mode: number): void {
    if (this.user === undefined) return
    chownSync(path, process.getuid!(), this.user)
    chmodSync(path, mode)
  }
}

/**
 * A small shell that is told of every host, and kills those that are left when its input ends: that it does as soon as
 * this process is gone, however it went.
 */
function startGuardian(): ChildProcess {
  const script = `
    hosts=" "
    while read -r what pid; do
      rest=" "
      for one in $hosts; do [ "$one" = "$pid" ] || rest="$rest$one "; done
      hosts="$rest"
      [ "$what" = "+" ] && hosts="$hosts$pid "
    done
    for one in $hosts; do kill -9 "$one"; done`
  const guardian = spawn("/bin/sh", ["-c", script], {
    // A session of its own: an interrupt typed at the terminal is for us.
    detached: true,
    stdio: ["pipe", "ignore", "ignore"],
    cwd: "/",
    env: {},
  })
  guardian.on("error", () => undefined)
  guardian.stdin.on("error", () => undefined)
  guardian.unref()
  ;(guardian.stdin as unknown as { unref(): void }).unref()
  return guardian
}

function userForHosts(): number {
  const users = usersHere()
  const named = users.find(({ name }) => name === hostUser.name)
  if (named) return named.uid
  let { id } = hostUser
  while (users.some(({ uid, gid }) => uid === id || gid === id)) id++
  return id
}

/** Which users can run this very program, as far as that was tried: it holds up the process for as long as a start of Node. */
const tried = new Map<number, boolean>()

function canRun(user: number): boolean {
  const known = tried.get(user) ?? triesToRun(user)
  tried.set(user, known)
  return known
}

function triesToRun(user: number): boolean {
  try {
    execFileSync(process.execPath, ["--version"], { uid: user, gid: user, cwd: "/", env: {}, stdio: "ignore" })
    return true
  } catch {
    return false
  }
}
