// Where the tests' time goes, with WOBBET_RECORD=<file>: a line of JSON for every test and for what lies between tests.
// Not for every day: it walks through all processes of the machine twice a test.
import { appendFileSync, readdirSync, readFileSync } from "node:fs"

/** Hundredths of a second, as the kernel counts processor time. */
function statOf(pid) {
  try {
    const [, ...rest] = /^.*\) (.*)$/s.exec(readFileSync(`/proc/${pid}/stat`, "utf8"))
    return rest[0].split(" ").map(Number)
  } catch {
    return undefined
  }
}

/** Processor seconds of a process that runs. */
export function processorOf(pid) {
  const stat = statOf(pid)
  return stat ? (stat[11] + stat[12]) / 100 : 0
}

/** Processor seconds of a process and of its children that have ended. */
export function processorOfAll(pid) {
  const stat = statOf(pid)
  return stat ? (stat[11] + stat[12] + stat[13] + stat[14]) / 100 : 0
}

/** Processor seconds of this process's children and theirs, those that have ended too. */
function processorOfChildren() {
  const all = new Map()
  for (const name of readdirSync("/proc"))
    if (/^\d+$/.test(name)) {
      const stat = statOf(name)
      if (stat) all.set(Number(name), stat)
    }
  const below = (parent) =>
    [...all].reduce(
      (sum, [pid, stat]) => (stat[1] === parent ? sum + stat[11] + stat[12] + stat[13] + stat[14] + below(pid) : sum),
      0,
    )
  const own = statOf(process.pid)
  return (own[13] + own[14] + below(process.pid)) / 100
}

export class Recording {
  /** What the harness did meanwhile: milliseconds of pauses and waits, and what it started. */
  counts = fresh()
  processorOf = processorOf

  constructor(file, testFile) {
    this.file = file
    this.testFile = testFile
    this.from = now()
  }

  hear({ name, test }) {
    if (name === "test_start" || name === "run_finish") this.write({ between: true })
    if (name !== "test_done") return
    const names = [test.name]
    for (let block = test.parent; block?.parent; block = block.parent) names.unshift(block.name)
    this.write({ test: names.join(" "), errors: test.errors.length })
  }

  end() {
    this.write({ between: true })
  }

  write(line) {
    const to = now()
    const took = Object.fromEntries(Object.entries(to).map(([name, value]) => [name, value - this.from[name]]))
    appendFileSync(this.file, `${JSON.stringify({ file: this.testFile, ...line, ...took, ...this.counts })}\n`)
    this.counts = fresh()
    this.from = now()
  }
}

const fresh = () => ({ pauses: [], waits: [], inside: [], processes: [], commands: [], databases: [] })

function now() {
  const { user, system } = process.cpuUsage()
  return { wall: performance.now() / 1000, own: (user + system) / 1e6, children: processorOfChildren() }
}
