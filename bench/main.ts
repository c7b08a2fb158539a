import { chmodSync, mkdtempSync, readFileSync, rmSync } from "node:fs"
import { tmpdir } from "node:os"
import { join } from "node:path"
import { startEmbedded } from "../src/store/embedded.ts"
import { childrenOf, Load, processorTime, startHandwritten, startWobbet } from "./stage.ts"
import type { Subject } from "./stage.ts"

const home = mkdtempSync(join(tmpdir(), "wobbet-bench-"))
chmodSync(home, 0o755)
let server = await startEmbedded(home)
if (process.env.PGSS) {
  const pg = (await import("pg")).default
  const c = new pg.Client({ connectionString: await server.database("postgres") })
  await c.connect()
  await c.query("ALTER SYSTEM SET shared_preload_libraries='pg_stat_statements'")
  await c.end()
  const { appendFileSync } = await import("node:fs")
  appendFileSync(
    join(home, "database/postgresql.conf"),
    "\npg_stat_statements.track_planning=on\n" +
      (process.env.AE
        ? "session_preload_libraries='auto_explain'\nauto_explain.log_min_duration=3\nauto_explain.log_analyze=on\nauto_explain.log_buffers=on\n"
        : ""),
  )
  await server.stop()
  server = await startEmbedded(home)
}
const load = await Load.start()
let made = 0
const fresh = () => server.database(`bench_${made++}`)
const postmaster = Number(readFileSync(join(home, "database/postmaster.pid"), "utf8").split("\n")[0])
const rounds = Number(process.argv[2] ?? 2)
const count = Number(process.argv[3] ?? 6000)
const text = process.argv[4] ?? "count"
const only = process.argv[5]
const people = 6000

async function wave(subject: Subject, from: number, n: number, more: object = {}) {
  const pids = [load.pid, ...subject.pids(), postmaster, ...childrenOf(postmaster)]
  const before = new Map(pids.map((pid) => [pid, processorTime(pid)]))
  const begun = performance.now()
  const result = await load.run({
    port: subject.port,
    path: subject.path,
    secret: subject.secret,
    from,
    count: n,
    atOnce: Number(process.env.AT ?? 40),
    people,
    firstPerson: 1_000_000,
    text,
    ...more,
  })
  await subject.settled()
  const whole = (performance.now() - begun) / 1000
  const pgNow = childrenOf(postmaster)
  const used = (list: number[]) => list.reduce((sum, pid) => sum + processorTime(pid) - (before.get(pid) ?? 0), 0)
  const cpu = {
    load: used([load.pid]),
    service: used([subject.pids()[0]!]),
    hosts: used(subject.pids().slice(1)),
    postgres: used(pgNow),
  }
  return { ...result, whole, cpu }
}
const f = (n: number) => n.toFixed(2)
for (let round = 0; round < rounds; round++) {
  const rates: number[] = []
  for (const start of [
    () => fresh().then((url) => startHandwritten(url, load)),
    () => fresh().then((url) => startWobbet(url, join(home, `w${round}`), load)),
  ]) {
    const subject: Subject = await start()
    if (only && only !== subject.name) {
      await subject.stop()
      continue
    }
    await wave(subject, 1, people)
    if (process.env.PGSS && subject.name === "Wobbet") {
      const d = (subject as any).database
      await d.query("CREATE EXTENSION IF NOT EXISTS pg_stat_statements")
      await d.query("SELECT pg_stat_statements_reset()")
    }
    const w = await wave(subject, 10_000_000, count)
    rates.push(count / w.whole)
    if (process.env.PGSS && subject.name === "Wobbet") {
      const d = (subject as any).database
      const { rows } = await d.query(
        "SELECT left(regexp_replace(query, '\\s+', ' ', 'g'), 70) q, calls, round(total_plan_time::numeric) plan, round(total_exec_time::numeric) exec, rows FROM pg_stat_statements ORDER BY total_exec_time+total_plan_time DESC LIMIT 22",
      )
      console.table(rows)
    }
    const quiet = await wave(subject, 20_000_000, 300, { atOnce: 1, gap: 10 })
    const at = (p: number) => quiet.waits[Math.floor((quiet.waits.length - 1) * p)]!
    console.log(
      subject.name.padEnd(13),
      `ack/s ${Math.round(count / w.acknowledged)} handled/s ${Math.round(count / w.whole)} ms cpu per msg: load ${f((w.cpu.load / count) * 1000)} service ${f((w.cpu.service / count) * 1000)} hosts ${f((w.cpu.hosts / count) * 1000)} pg ${f((w.cpu.postgres / count) * 1000)}  p50 ${f(at(0.5))} p99 ${f(at(0.99))} refused ${w.refused}`,
    )
    await subject.stop()
  }
  if (rates.length === 2) console.log("ratio", f(rates[1]! / rates[0]!))
}
await load.stop()
await server.stop()
if (process.env.AE) (await import("node:fs")).copyFileSync(join(home, "database.log"), "/tmp/ae.log")
rmSync(home, { recursive: true, force: true })
process.exit(0)
