import { execFileSync } from "node:child_process"
import { createHash } from "node:crypto"
import { mkdtempSync, rmSync, writeFileSync } from "node:fs"
import { tmpdir } from "node:os"
import { join } from "node:path"
import fc from "fast-check"
import { pino } from "pino"
import type { JournalDisk, JournalDiskFile } from "./journalDisk.ts"
import { localDisk } from "./journalDisk.ts"
import type { Inlet } from "./inlet.ts"
import { Journal } from "./journal.ts"
import type { JournalEntry } from "./journalFile.ts"
import { contentOf, fileNamed, lineOf } from "./journalFile.ts"
import { JournalReader } from "./journalReader.ts"

const entry = (id: string, address = "/in/quay"): JournalEntry => ({
  ...{ id, channel: "quay", method: "POST", address, headers: {}, body: "aGk=", by: "its secret", answered: 200 },
  receivedAt: "2026-08-15T09:00:00.000Z",
})
const earlierLine = (of: JournalEntry) => {
  const json = JSON.stringify(of)
  return `${createHash("sha256").update(json).digest("hex").slice(0, 16)} ${json}\n`
}

interface Inode {
  content: Buffer
  durable: number
}

/** A disk that several processes use: it may be slow, fail at any step, and lose what was not synced. */
class ModelDisk {
  private names = new Map<string, Inode>()
  private durableNames = new Map<string, Inode>()
  /** What was done with names since they were made durable. */
  private undurable: ((names: Map<string, Inode>) => void)[] = []
  faults = true

  constructor(
    private readonly dice: () => number,
    readonly tick: () => Promise<void>,
  ) {}

  /** The machine loses its power: of what was not synced only some is there afterwards. */
  loseWhatIsNotDurable(): void {
    const survive = Math.floor(this.dice() * (this.undurable.length + 1))
    for (const change of this.undurable.splice(0).slice(0, survive)) change(this.durableNames)
    this.names = new Map(this.durableNames)
    for (const inode of this.names.values()) {
      const more = Math.floor(this.dice() * (inode.content.length - inode.durable + 1))
      inode.content = inode.content.subarray(0, inode.durable + more)
      inode.durable = inode.content.length
    }
  }

  get left(): string[] {
    return [...this.names.keys()]
  }

  private change(apply: (names: Map<string, Inode>) => void): void {
    apply(this.names)
    this.undurable.push(apply)
  }

  /** As one process sees it; nothing of what it asked for happens once that has ended. */
  of(process: { ended: boolean }): JournalDisk {
    const step = async <Result>(apply: () => Result, half: () => void = () => undefined): Promise<Result> => {
      for (let wait = Math.floor(this.dice() * (this.faults ? 6 : 1)); wait > 0; wait--) await this.tick()
      if (process.ended) return new Promise(() => undefined)
      if (this.faults && this.dice() < 0.04) {
        half()
        throw Object.assign(new Error("no space left on the disk"), { code: "ENOSPC" })
      }
      const result = apply()
      if (this.faults && this.dice() < 0.03) throw Object.assign(new Error("the disk failed"), { code: "EIO" })
      await this.tick()
      return process.ended ? new Promise(() => undefined) : result
    }
    return {
      list: () => step(() => [...this.names.keys()]),
      read: (name) => step(() => Buffer.from(this.names.get(name)!.content)),
      remove: (name) => step(() => this.change((names) => void names.delete(name))),
      rename: (from, to) =>
        step(() => {
          if (!this.names.has(from)) return false
          expect(this.names.has(to)).toBe(false)
          this.change((names) => {
            const inode = names.get(from)
            if (inode) (names.delete(from), names.set(to, inode))
          })
          return true
        }),
      sync: () =>
        step(() => {
          this.durableNames = new Map(this.names)
          this.undurable = []
        }),
      create: (name) =>
        step((): JournalDiskFile => {
          const inode: Inode = { content: Buffer.alloc(0), durable: 0 }
          expect(this.names.has(name)).toBe(false)
          this.change((names) => void names.set(name, inode))
          const add = (text: Buffer) => void (inode.content = Buffer.concat([inode.content, text]))
          return {
            append: (text) => {
              const whole = Buffer.from(text)
              const half = () => add(whole.subarray(0, Math.floor(this.dice() * whole.length)))
              return step(() => add(whole), half)
            },
            sync: () => step(() => void (inode.durable = inode.content.length)),
            cut: (size) => step(() => void (inode.content = inode.content.subarray(0, size))),
            isThere: () => step(() => this.names.get(name) === inode),
            close: () => step(() => undefined),
          }
        }),
    }
  }
}

interface Process {
  name: string
  ended: boolean
  journal: Journal
  reader: JournalReader
  said: number
}

/** Services on one home and one database, as seen from outside: what was acknowledged, and what the database has. */
async function play(seed: number, steps: number, accused: boolean) {
  let state = seed
  const dice = () => {
    state = (state + 0x6d2b79f5) | 0
    let t = Math.imul(state ^ (state >>> 15), 1 | state)
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t
    return ((t ^ (t >>> 14)) >>> 0) / 2 ** 32
  }
  const tick = () => new Promise<void>((done) => setImmediate(done))
  const disk = new ModelDisk(dice, tick)
  const database: string[] = []
  let isAway = false
  const processes: Process[] = []
  const acknowledged: { id: string; by: string; askedAt: number; at: number }[] = []
  let clock = 0

  const keep = async (process: Process, ids: string[]) => {
    for (const id of ids) {
      await tick()
      if (isAway || (disk.faults && dice() < 0.02)) throw Object.assign(new Error("away"), { code: "ECONNREFUSED" })
      if (!process.ended) database.push(id)
    }
    if (process.ended) await new Promise(() => undefined)
  }
  const begin = () => {
    const process = { name: `p${processes.length}`, ended: false, said: 0 } as Process
    process.journal = new Journal(disk.of(process), process.name)
    process.reader = new JournalReader({
      journal: process.journal,
      inlet: {
        readIn: (entries: JournalEntry[]) =>
          keep(
            process,
            entries.map(({ id }) => id),
          ),
      } as unknown as Inlet,
      liveness: {
        living: async () => {
          await tick()
          const living = processes.filter(({ ended }) => !ended && !(accused && disk.faults && dice() < 0.2))
          return new Set(living.map(({ name }) => name))
        },
      } as never,
      log: pino({ level: "silent" }),
    })
    processes.push(process)
    return process
  }
  /** As an inlet does it with a call that its provider never repeats. */
  const receive = async (process: Process) => {
    const id = `${process.name}-${++process.said}`
    const askedAt = ++clock
    try {
      if (await process.journal.holdsStill()) await process.journal.add(entry(id))
      else
        await keep(process, [id]).catch(async () => {
          await process.journal.add(entry(id))
        })
      acknowledged.push({ id, by: process.name, askedAt, at: ++clock })
    } catch {
      // Its caller hears that it was not kept.
    }
  }
  const living = () => processes.filter(({ ended }) => !ended)
  const one = () => living()[Math.floor(dice() * living().length)]!
  const pending = new Map<Process, Set<Promise<void>>>()
  const go = (process: Process, run: Promise<unknown>) => {
    const all = pending.get(process) ?? new Set()
    pending.set(process, all)
    const done: Promise<void> = run.then(
      () => void all.delete(done),
      () => void all.delete(done),
    )
    all.add(done)
  }

  begin()
  begin()
  for (let n = 0; n < steps; n++) {
    const what = dice()
    const process = one()
    if (what < 0.45) go(process, receive(process))
    else if (what < 0.7) go(process, process.reader.read())
    else if (what < 0.78) isAway = !isAway
    else if (what < 0.82) {
      process.ended = true
      begin()
    } else if (what < 0.84) {
      for (const each of living()) each.ended = true
      disk.loseWhatIsNotDurable()
      begin()
      begin()
    } else for (let wait = dice() * 12; wait > 0; wait--) await tick()
  }

  disk.faults = false
  isAway = false
  for (const process of living()) while (pending.get(process)?.size) await Promise.all(pending.get(process)!)
  // Whatever somebody had taken over is read by whoever holds it.
  for (let round = 0; round < 3; round++) for (const process of living()) await process.reader.read()
  return { database, acknowledged, left: disk.left, holding: living().filter(({ journal }) => journal.holds) }
}

function expectKept({ database, acknowledged, left, holding }: Awaited<ReturnType<typeof play>>): void {
  const place = new Map(database.map((id, at) => [id, at] as const).reverse())
  expect(acknowledged.filter(({ id }) => !place.has(id))).toEqual([])
  expect([left, holding]).toEqual([[], []])
  // What was acknowledged before another call of the same process came stands before it.
  for (const a of acknowledged)
    for (const b of acknowledged)
      if (a.by === b.by && a.at < b.askedAt) expect([a.id, b.id, place.get(a.id)! < place.get(b.id)!]).toContain(true)
}

/** How many runs each property has; more of them by hand. */
const numRuns = Number(process.env.WOBBET_RUNS ?? 150)

describe("whatever the disk, the database and the processes do, what was acknowledged is read in, and in order", () => {
  test.each([
    ["processes are known to live or not", false],
    ["living ones are held for dead", true],
  ])(
    "%s",
    async (_name, accused) => {
      const seeds = fc.tuple(fc.integer(), fc.integer({ min: 20, max: 200 }))
      await fc.assert(
        fc.asyncProperty(seeds, async ([seed, steps]) => expectKept(await play(seed, steps, accused))),
        { numRuns },
      )
    },
    600_000,
  )
})

test("what is whole is read, whatever stands between, and half a last line is nobody's", () => {
  const lines = ["a", "b", "c"].map((id) => lineOf(entry(id)))
  const ids = (file: string) => contentOf(Buffer.from(file)).entries.map(({ id }) => id)
  fc.assert(
    fc.property(fc.nat(), fc.nat(), fc.string({ unit: "binary" }), (from, length, instead) => {
      const file = lines.join("")
      const at = from % lines[0]!.length
      const hurt = file.slice(0, at) + instead + file.slice(at + (length % (lines[0]!.length - at)))
      expect(ids(hurt).slice(-2)).toEqual(["b", "c"])
    }),
  )
  const torn = lines[0] + lines[1]!.slice(0, 50)
  expect(contentOf(Buffer.from(torn))).toMatchObject({ entries: [entry("a")], damaged: 0, torn: 50 })
  // A line that looks like an entry, said by a stranger, is none.
  const forged = entry("a", `/in/quay?x=${lines[1]}`)
  expect(ids(lineOf(forged))).toEqual(["a"])
  expect(contentOf(Buffer.alloc(3_000_000, "call 9 0123456789abcdef {"))).toMatchObject({ entries: [], damaged: 0 })
})

test("files of earlier versions are read: by their clock's order, and where a line was glued to half of another", async () => {
  const folder = mkdtempSync(join(tmpdir(), "wobbet-t-"))
  const glued = earlierLine(entry("lost")).slice(0, 60) + earlierLine(entry("glued"))
  writeFileSync(join(folder, "01760000000002-m1.7.x.calls"), earlierLine(entry("later")))
  writeFileSync(join(folder, "01760000000001-m1.7.x.calls"), earlierLine(entry("sooner")))
  writeFileSync(join(folder, "01760000000000-m1.7.x.calls.broken"), earlierLine(entry("first")) + glued)
  // Its writer, of an earlier version, lives on.
  writeFileSync(join(folder, "01760000000003-m1.8.x.calls"), earlierLine(entry("another's")))
  const journal = new Journal(localDisk(folder), "m1.9.x")
  const read: string[] = []
  const reader = new JournalReader({
    journal,
    inlet: { readIn: async (entries: JournalEntry[]) => void read.push(...entries.map(({ id }) => id)) } as never,
    liveness: { living: async () => new Set(["m1.8.x"]) } as never,
    log: pino({ level: "silent" }),
  })
  await journal.add(entry("now"))
  await reader.read()
  expect(read).toEqual(["first", "glued", "sooner", "later", "now"])
  const names = execFileSync("ls", [folder], { encoding: "utf8" }).trim().split("\n")
  expect(names).toEqual(["0001760000000000~m1.7.x~kept", "01760000000003-m1.8.x.calls"])
  // What an earlier version looks for beside is none of ours.
  expect(names.filter((name) => /^(\d{14})-(.+)\.calls$/.test(name))).toEqual(["01760000000003-m1.8.x.calls"])
  expect(names.map((name) => fileNamed(name)?.state)).toEqual(["kept", "open"])
  rmSync(folder, { recursive: true })
})
