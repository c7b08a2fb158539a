import { chmodSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs"
import { cpus, tmpdir } from "node:os"
import { join } from "node:path"
import { parseArgs } from "node:util"
import { startEmbedded } from "../src/store/embedded.ts"
import type { Wave } from "./load.ts"
import type { Subject, WobbetSubject } from "./stage.ts"
import { measureAgainst } from "./against.ts"
import { measureWorst } from "./worst.ts"
import { flood, searchTimes } from "./forged.ts"
import type { FloodResult } from "./forged.ts"
import type { Results, Run, Share } from "./results.ts"
import { measureLists } from "./large.ts"
import { measureElsewhere, standElsewhere } from "./elsewhere.ts"
import { measureInterviews } from "./interviews.ts"
import { measureKinds } from "./kinds.ts"
import { childrenOf, Load, memoryOf, processorTime, root, startHandwritten, startWobbet, workFor } from "./stage.ts"
import { measureDates, measurePhrases } from "./phrases.ts"
import {
  printAgainst,
  printElsewhere,
  printForged,
  printInterviews,
  printKinds,
  printLists,
  printPhrases,
  printTable,
  printWorst,
} from "./table.ts"

/**
 * Each figure beside its baseline, taken in turn on one machine, from one load generator and one database server. What
 * counts is the ratio: the figures themselves move by a third from one minute to the next on a shared machine.
 */
const { values: options } = parseArgs({
  options: {
    quick: { type: "boolean" },
    json: { type: "boolean" },
    rounds: { type: "string", default: "3" },
    /** Measures the kinds of channel alone, and keeps the other figures as they are. */
    kinds: { type: "boolean" },
    /** Measures what the worst input costs, alone. */
    worst: { type: "boolean" },
    /** Measures phrases alone, and keeps the other figures as they are. */
    phrases: { type: "boolean" },
    /** Measures interviews alone, and keeps the other figures as they are. */
    interviews: { type: "boolean" },
    /** Measures endpoints and queues alone, and keeps the other figures as they are. */
    elsewhere: { type: "boolean" },
    /** Measures forged calls alone, and keeps the other figures as they are. */
    forged: { type: "boolean" },
    /** Measures lists and searches alone, with a record of so many messages over two years beside one of 10,000. */
    large: { type: "boolean" },
    messages: { type: "string", default: "2000000" },
    /** Measures this build beside that of a commit, alone; `built` is the checkout that scripts/bench.mjs made of it. */
    against: { type: "string" },
    built: { type: "string" },
    /** Shows the figures of the last run again, and measures nothing. */
    show: { type: "boolean" },
  },
})
const rounds = Number(options.rounds)
const size = options.quick ? 0.1 : 1
const people = Math.round(8000 * size)
const messages = Math.round(8000 * size)
const waiting = Math.round(100_000 * size)
const few = Math.round(20_000 * size)
const many = Math.round(200_000 * size)
/** As many calls at once as Telegram makes at most. */
const atOnce = 100

const file = join(root, "bench/results.json")
if (options.show) {
  printTable(JSON.parse(readFileSync(file, "utf8")) as Results)
  process.exit(0)
}

const say = (text: string) => process.stderr.write(`${text}\n`)
const home = mkdtempSync(join(tmpdir(), "wobbet-bench-"))
chmodSync(home, 0o755)
const server = await startEmbedded(home)
const postmaster = Number(readFileSync(join(home, "database/postmaster.pid"), "utf8").split("\n")[0])
const load = await Load.start()
let databases = 0
let updates = 1
const subjects = new Set<Subject>()
const freshDatabase = () => server.database(`bench_${databases++}`)

async function wave(subject: Subject, count: number, more: Partial<Wave> = {}) {
  const from = updates
  updates += count
  const given = {
    port: subject.port,
    path: subject.path,
    from,
    count,
    atOnce,
    people,
    firstPerson: 1_000_000,
    text: "count",
  }
  const parts = (): { [part in keyof Share]: number[] } => {
    const [service, ...hosts] = subject.pids()
    const postgres = childrenOf(postmaster)
    // Of two services that are up, each is charged with what is done for it.
    const own =
      subjects.size > 1 && "databaseName" in subject ? workFor(String(subject.databaseName), postgres) : postgres
    return { load: [load.pid], service: [service!], hosts, postgres: own }
  }
  const before = new Map(
    Object.values(parts())
      .flat()
      .map((pid) => [pid, processorTime(pid)]),
  )
  const begun = performance.now()
  const found = await load.run({ ...given, ...more })
  if (found.refused > 0) throw new Error(`${subject.name} refused ${found.refused} calls`)
  await subject.settled()
  const seconds = (performance.now() - begun) / 1000
  const used = (pids: number[]) =>
    (pids.reduce((sum, pid) => sum + processorTime(pid) - (before.get(pid) ?? 0), 0) / count) * 1000
  const after = parts()
  const share = {
    load: used(after.load),
    service: used(after.service),
    hosts: used(after.hosts),
    postgres: used(after.postgres),
  }
  return { ...found, seconds, share }
}

async function measure(subject: Subject): Promise<Run> {
  // Everybody has written before: what is measured is a service in its stride.
  await wave(subject, people)
  const full = await wave(subject, messages)
  const calm = await wave(subject, Math.round(300 * Math.max(size, 0.3)), { atOnce: 1, gap: 10 })
  const at = (part: number) => calm.waits[Math.floor((calm.waits.length - 1) * part)]!
  return {
    acknowledged: messages / full.acknowledged,
    handled: messages / full.seconds,
    p50: at(0.5),
    p99: at(0.99),
    share: full.share,
  }
}

async function taking<S extends Subject, T>(starting: Promise<S>, run: (subject: S) => Promise<T>): Promise<T> {
  const subject = await starting
  subjects.add(subject)
  try {
    return await run(subject)
  } finally {
    subjects.delete(subject)
    await subject.stop()
  }
}

async function rate(subject: Subject): Promise<number> {
  return messages / (await wave(subject, messages)).seconds
}

async function withWaiting(subject: WobbetSubject): Promise<Results["waiting"]> {
  await wave(subject, people)
  const without: number[] = []
  for (let round = 0; round < rounds; round++) without.push(await rate(subject))
  await subject.client.pauseChannel("stuck")
  say(`  ${waiting} other conversations, each with a message that waits on a paused channel …`)
  const filling = { path: "/in/stuck", people: waiting, firstPerson: 50_000_000 }
  await wave(subject, waiting, { ...filling, unanswered: true })
  // The crowd has pushed the others out of what is kept at hand: they write once before they are measured again.
  await wave(subject, people)
  const stuck: number[] = []
  for (let round = 0; round < rounds; round++) stuck.push(await rate(subject))
  return { conversations: waiting, without, with: stuck }
}

async function memory(subject: WobbetSubject): Promise<Results["memory"]> {
  await wave(subject, few)
  await new Promise((done) => setTimeout(done, 3000))
  const first = memoryOf(subject.pid)
  for (let done = few; done < many; done += few) {
    await wave(subject, few)
    say(`  ${done + few} messages, ${Math.round(memoryOf(subject.pid))} MB`)
  }
  await new Promise((done) => setTimeout(done, 3000))
  return { few: first, many: memoryOf(subject.pid), after: [few, many] }
}

/** The same end to end on each kind, in turn. */
async function endToEnd(subject: WobbetSubject): Promise<{ [kind: string]: number[] }> {
  const handled: { [kind: string]: number[] } = {}
  const all = ["telegram", "whatsapp", "messenger", "slack", "sms"]
  const on = (kind: string) => ({ kind, path: `/in/${kind}` })
  for (const kind of all) await wave(subject, people, on(kind))
  for (let round = 0; round < rounds; round++)
    for (const kind of all) (handled[kind] ??= []).push(messages / (await wave(subject, messages, on(kind))).seconds)
  return handled
}

async function kindsOf(): Promise<NonNullable<Results["kinds"]>> {
  say("reading and rendering by kind")
  const rates = measureKinds(rounds + 2)
  say("end to end by kind")
  const handled = await taking(startWobbet(await freshDatabase(), join(home, "kinds"), load, true), endToEnd)
  return { rates, handled }
}

/** Genuine messages in turn alone and beside a flood; the flood's pace is what a single careless sender reaches. */
async function beside(subject: WobbetSubject, perSecond: number): Promise<FloodResult> {
  const without: number[] = []
  const beset: number[] = []
  let forged = 0
  for (let round = 0; round < rounds + 1; round++) {
    without.push(await rate(subject))
    const end = flood(subject.port, "/in/stuck", perSecond)
    beset.push(await rate(subject))
    forged += await end()
  }
  await new Promise((done) => setTimeout(done, 500))
  const { rows } = await subject.database.query<{ kept: number; bytes: number }>(
    "SELECT count(*)::int AS kept, coalesce(sum(pg_column_size(i.*)), 0)::int AS bytes FROM intakes i WHERE NOT genuine",
  )
  return { perSecond, without, beside: beset, forged, ...rows[0]! }
}

async function interviewsOf(): Promise<NonNullable<Results["interviews"]>> {
  say("interviews")
  return taking(startWobbet(await freshDatabase(), join(home, "interviews"), load), (subject) => {
    const one = async (text: string, people: number, firstPerson: number) =>
      people / (await wave(subject, people, { text, people, firstPerson })).seconds
    return measureInterviews(subject, waiting, one, say)
  })
}

async function elsewhereOf(): Promise<NonNullable<Results["elsewhere"]>> {
  say("endpoints and queues")
  const { bot, stop } = await standElsewhere(home)
  const starting = startWobbet(await freshDatabase(), join(home, "elsewhere"), load, false, bot)
  try {
    return await taking(starting, (subject) => {
      const sizes = { rounds, slow: Math.round(1000 * size), models: Math.round(500 * size), queued: few }
      const rate = async (text: string) => messages / (await wave(subject, messages, { text })).seconds
      const send = (given: Partial<Wave> & Pick<Wave, "text" | "count" | "people" | "firstPerson">) => {
        const from = updates
        updates += given.count
        return load.run({ port: subject.port, path: subject.path, from, atOnce, ...given })
      }
      return measureElsewhere(subject, sizes, rate, send, say)
    })
  } finally {
    stop()
  }
}

async function againstOf(commit: string, built: string): Promise<NonNullable<Results["against"]>> {
  say(`this build beside that of ${commit}`)
  const bot = join(root, "bench/bot")
  const then = startWobbet(await freshDatabase(), join(home, "then"), load, false, bot, built)
  return taking(then, async (before) =>
    taking(startWobbet(await freshDatabase(), join(home, "now"), load), async (now) => {
      const sizes = { rounds: Math.max(rounds, 3), people, messages, calm: Math.round(300 * Math.max(size, 0.3)) }
      return { commit, ...(await measureAgainst({ now, then: before }, sizes, wave, say)) }
    }),
  )
}

async function forgedOf(): Promise<NonNullable<Results["forged"]>> {
  say("why a forged call was refused")
  const search = searchTimes()
  say("floods of forged calls")
  const floods = await taking(startWobbet(await freshDatabase(), join(home, "forged"), load), async (subject) => {
    await wave(subject, people)
    return [await beside(subject, 100), await beside(subject, 500)]
  })
  return { search, floods }
}

try {
  if (options.against !== undefined) {
    const found = await againstOf(options.against, options.built!)
    if (options.json) process.stdout.write(`${JSON.stringify(found, null, 2)}\n`)
    else printAgainst(found)
  } else if (options.kinds) {
    const before = JSON.parse(readFileSync(file, "utf8")) as Results
    const results: Results = { ...before, kinds: await kindsOf() }
    if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
    if (options.json) process.stdout.write(`${JSON.stringify(results.kinds, null, 2)}\n`)
    else printKinds(results.kinds!)
  } else if (options.interviews) {
    const before = JSON.parse(readFileSync(file, "utf8")) as Results
    const results: Results = { ...before, interviews: await interviewsOf() }
    if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
    if (options.json) process.stdout.write(`${JSON.stringify(results.interviews, null, 2)}\n`)
    else printInterviews(results.interviews!)
  } else if (options.elsewhere) {
    const before = JSON.parse(readFileSync(file, "utf8")) as Results
    const results: Results = { ...before, elsewhere: await elsewhereOf() }
    if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
    if (options.json) process.stdout.write(`${JSON.stringify(results.elsewhere, null, 2)}\n`)
    else printElsewhere(results.elsewhere!)
  } else if (options.forged) {
    const before = JSON.parse(readFileSync(file, "utf8")) as Results
    const results: Results = { ...before, forged: await forgedOf() }
    if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
    if (options.json) process.stdout.write(`${JSON.stringify(results.forged, null, 2)}\n`)
    else printForged(results.forged!)
  } else if (options.worst) {
    const before = JSON.parse(readFileSync(file, "utf8")) as Results
    const results: Results = { ...before, worst: measureWorst() }
    if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
    if (options.json) process.stdout.write(`${JSON.stringify(results.worst, null, 2)}\n`)
    else printWorst(results.worst!)
  } else if (options.phrases) {
    const before = JSON.parse(readFileSync(file, "utf8")) as Results
    const results: Results = { ...before, phrases: measurePhrases(rounds + 2), dates: measureDates(rounds + 2) }
    if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
    const { phrases = [], dates = [] } = results
    if (options.json) process.stdout.write(`${JSON.stringify({ phrases, dates }, null, 2)}\n`)
    else printPhrases(phrases, dates)
  } else if (options.large) {
    const before = JSON.parse(readFileSync(file, "utf8")) as Results
    const sizes = { small: 10_000, large: Number(options.messages) * size }
    const databases = { small: await freshDatabase(), large: await freshDatabase() }
    const results: Results = { ...before, lists: await measureLists(databases, sizes, home, say) }
    if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
    if (options.json) process.stdout.write(`${JSON.stringify(results.lists, null, 2)}\n`)
    else printLists(results.lists!)
  } else await measureAll()
} finally {
  for (const subject of subjects) await subject.stop()
  await load.stop()
  await server.stop()
  rmSync(home, { recursive: true, force: true })
}
process.exit(0)

/** Lists are measured by themselves: filling the record alone takes minutes. */
function listsBefore(): Pick<Results, "lists"> {
  const { lists } = JSON.parse(readFileSync(file, "utf8")) as Results
  return lists ? { lists } : {}
}

async function measureAll(): Promise<void> {
  const handwritten: Run[] = []
  const wobbet: Run[] = []
  for (let round = 1; round <= rounds; round++) {
    say(`round ${round} of ${rounds}: ${messages} messages, ${atOnce} calls at once`)
    handwritten.push(await taking(startHandwritten(await freshDatabase(), load), measure))
    wobbet.push(await taking(startWobbet(await freshDatabase(), join(home, `one-${round}`), load), measure))
    say(
      `  handled a second: hand-written ${Math.round(handwritten.at(-1)!.handled)}, Wobbet ${Math.round(wobbet.at(-1)!.handled)}`,
    )
  }
  say("a crowd that waits")
  const crowd = await taking(startWobbet(await freshDatabase(), join(home, "waiting"), load), withWaiting)
  say("memory")
  const kept = await taking(startWobbet(await freshDatabase(), join(home, "memory"), load), memory)
  const results: Results = {
    taken: new Date().toISOString(),
    machine: `${cpus().length} cores, Node ${process.versions.node}`,
    rounds,
    messages,
    atOnce,
    handwritten,
    wobbet,
    waiting: crowd,
    memory: kept,
    kinds: await kindsOf(),
    forged: await forgedOf(),
    interviews: await interviewsOf(),
    elsewhere: await elsewhereOf(),
    worst: measureWorst(),
    ...listsBefore(),
  }
  if (!options.quick) writeFileSync(file, `${JSON.stringify(results, null, 2)}\n`)
  if (options.json) process.stdout.write(`${JSON.stringify(results, null, 2)}\n`)
  else printTable(results)
}
