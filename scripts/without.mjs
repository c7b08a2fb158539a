// Takes one mechanism at a time out of the service, runs the test that is named after its promise, and sees it fail:
// `node scripts/without.mjs` for all, or with words of the ones to try. Sources are changed on the way into a build of
// its own, never where they stand.
import { spawn } from "node:child_process"
import { readFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"
import { bundle, testEntryPoints } from "./build.mjs"
import { setUp } from "./setup.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))

/** What is taken out, where, and which test must then fail. */
const mechanisms = [
  {
    name: "1 the answer waits until the call is durable",
    file: "src/engine/inlet/inlet.ts",
    from: "await this.accepting.add(draft, (kind.patience ?? usualPatience) * 800)",
    to: "void this.accepting.add(draft)",
    test: ["database", "PostgreSQL ended with SIGINT"],
  },
  {
    name: "1 the journal is read in",
    file: "src/engine/inlet/journalReader.ts",
    from: "await inlet.readIn(entries, new Date())",
    to: "void entries",
    test: ["database", "local journal"],
  },
  {
    name: "1 calls go to the journal while the database is away",
    file: "src/engine/inlet/inlet.ts",
    from: "if (once !== undefined && away)",
    to: "if (once !== undefined && Math.random() > 2)",
    test: ["database", "local journal"],
  },
  {
    name: "1 what came later stands behind what is on disk",
    file: "src/engine/inlet/journal.ts",
    from: "return this.unread.size > 0",
    to: "return false",
    test: ["database", "local journal"],
    may: "pass when the disk is read in before the next call comes",
  },
  {
    name: "1 a call is kept for elsewhere only while it is fetched",
    file: "src/store/brought.ts",
    from: "key = ? AND bringing IS NOT NULL FOR SHARE",
    to: "key = ? FOR SHARE",
    test: ["bringing", "promise 1"],
  },
  {
    name: "2 an event is seen once",
    file: "src/store/intake.ts",
    from: "SELECT channel, key, id FROM m",
    to: "SELECT channel, key || id, id FROM m",
    test: ["redelivery", "three times at once"],
  },
  {
    name: "2 what was seen spans the months",
    file: "src/store/intake.ts",
    from: "SELECT channel, key, id FROM m",
    to: "SELECT channel, key || left(id, 8), id FROM m",
    test: ["redelivery", "month has turned"],
  },
  {
    name: "3 positions, not ids, make the order",
    file: "src/store/lines.ts",
    from: "direction = 'in' ORDER BY position LIMIT ?)",
    to: "direction = 'in' ORDER BY id LIMIT ?)",
    and: [
      ["src/store/lines.ts", "ORDER BY q.position) AS pending", "ORDER BY q.id) AS pending"],
      ["src/store/lines.ts", "both_sorts ORDER BY position LIMIT ?", "both_sorts ORDER BY id LIMIT ?"],
      [
        "src/store/intake.ts",
        "coalesce(w.fence + 1 = l.fence AND w.heard = l.heard, l.heard = 0) AS undisturbed",
        "false AS undisturbed",
      ],
    ],
    test: ["processes", "what was accepted first is first"],
  },
  {
    name: "3 a line is only taken whole",
    file: "src/store/intake.ts",
    from: "heard === next - 1 - arrived.get(conversation)!",
    to: "heard < next",
    test: ["processes", "two first messages"],
  },
  {
    name: "3 the claim on a conversation is one process's",
    file: "src/store/turns.ts",
    from: "AND w.fence = i.fence AND w.heard = i.was AND w.holder = ?",
    to: "AND ?::text IS NOT NULL",
    and: [
      [
        "src/store/intake.ts",
        "holder = CASE WHEN w.due_at > now() AND w.due_at < 'infinity' THEN w.holder ELSE excluded.holder END",
        "holder = excluded.holder",
      ],
      [
        "src/store/intake.ts",
        "fence = w.fence + CASE WHEN w.due_at > now() AND w.due_at < 'infinity' THEN 0 ELSE 1 END",
        "fence = w.fence + 1",
      ],
    ],
    test: ["processes", "share the work|under load one of two"],
  },
  {
    name: "3 the live stream stops at the oldest running transaction",
    file: "src/store/live.ts",
    from: "pg_snapshot_xmin(pg_current_snapshot())",
    to: "pg_snapshot_xmax(pg_current_snapshot())",
    test: ["processes", "the live stream passes nothing"],
  },
  {
    name: "3 a stop waits for no idle connection",
    file: "src/service/service.ts",
    from: "app.server.closeIdleConnections()",
    to: "undefined",
    and: [["src/service/service.ts", "app.server.closeAllConnections()", "undefined"]],
    test: ["processes", "its caller keeps open"],
  },
  {
    name: "4 state and replies commit together",
    file: "src/store/turns.ts",
    from: "coalesce(i.running, false) FROM i JOIN held USING (conversation) WHERE i.state IS NOT NULL",
    to: "coalesce(i.running, false) FROM i JOIN held USING (conversation) WHERE i.state IS NOT NULL AND random() < 0.5",
    test: ["crashes", "."],
  },
  {
    name: "4 a dead process's conversations are taken over",
    file: "src/store/leases.ts",
    from: "UPDATE work SET holder = NULL, due_at = now() WHERE holder = ANY(?)",
    to: "UPDATE work SET holder = NULL, due_at = 'infinity' WHERE holder = ANY(?)",
    test: ["crashes", "kill -9"],
  },
  {
    name: "4 claims whose answer was lost are found again",
    file: "src/engine/turns/turns.ts",
    from: 'agenda.whenDue("claims", () => this.recoverStrays(), failed),',
    to: "",
    test: ["crashes", "is found again"],
  },
  {
    name: "6 an outcome the database would not take is told again",
    file: "src/engine/sender/sender.ts",
    from: "this.unrecorded.set(begun.message, { attempt: begun.attempt, outcome })",
    to: "",
    test: ["crashes", "only the database's answer is lost send: call answered"],
  },
  {
    name: "4 a side effect that has a result is not run again",
    file: "src/engine/handlers/host.ts",
    from: 'if ("value" in begun) return { key, value: begun.value }',
    to: "",
    test: ["interviews", "once: result recorded=kill"],
  },
  {
    name: "4 a side effect keeps its key",
    file: "src/engine/handlers/once.ts",
    from: "JSON.stringify([scope, name, nth, round])",
    to: "JSON.stringify([scope, name, nth, round, Math.random()])",
    test: ["interviews", "once: callback ended=kill"],
  },
  {
    name: "4 what a turn has is settled once a side effect of it has begun",
    file: "src/engine/turns/grouping.ts",
    from: "position <= frozen)",
    to: "position < 0)",
    test: ["interviews", "belongs to the next turn"],
  },
  {
    name: "4 a time and the message of it are one transaction",
    file: "src/store/timers.ts",
    from: "const taken = await rows<{ id: string }>(step,",
    to: "const taken = await rows<{ id: string }>(database,",
    test: ["interviews", "timer: due=kill"],
  },
  {
    name: "5 only the head of a line is sent",
    file: "src/store/outbox.ts",
    from: "AND o.attempt = i.attempt AND o.state = 'waiting'\n       AND NOT EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = o.conversation AND e.position < o.position)",
    to: "AND o.attempt = i.attempt AND o.state = 'waiting'",
    and: [
      [
        "src/store/outbox.ts",
        "AND o.due_at <= now()\n           AND NOT EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = o.conversation AND e.position < o.position)",
        "AND o.due_at <= now()",
      ],
      ["src/store/turns.ts", "AND NOT EXISTS (SELECT 1 FROM outbox e WHERE e.conversation = o.conversation)\n", "\n"],
    ],
    test: ["provider", "first of three"],
  },
  {
    name: "5 a reply starts at once only if the line is as it was",
    file: "src/store/turns.ts",
    from: "o.start AND o.n = 0 AND h.alone",
    to: "o.start AND o.n = 0",
    test: ["provider", "joined its line"],
  },
  {
    name: "5 what a killed process left under way holds its line",
    file: "src/engine/sender/sender.ts",
    from: "Math.max(0, limit - head.age)",
    to: "0",
    test: ["crashes", "holds its line"],
  },
  {
    name: "5 calls under way are counted by channel",
    file: "src/engine/sender/sender.ts",
    from: "return this.underWay.get(channel) ?? 0",
    to: "return [...this.underWay.values()].reduce((sum, n) => sum + n, 0)",
    test: ["provider", "keeps no other channel"],
  },
  {
    name: "6 the attempt is on record before its first byte",
    file: "src/store/outbox.ts",
    from: "WHERE channel = ? AND state = 'sending' AND holder IS DISTINCT FROM ? RETURNING *",
    to: "WHERE channel = ? AND state = 'never' AND holder IS DISTINCT FROM ? RETURNING *",
    test: ["crashes", "kill -9"],
  },
  {
    name: "6 a vanished answer is a doubt, not a failure",
    file: "src/core/channels/telegram/judge.ts",
    from: "return answer.sent\n",
    to: "return false\n",
    test: ["provider", "first of three"],
  },
  {
    name: "6 a stop ends calls between two of their steps",
    file: "src/engine/sender/sender.ts",
    from: 'includes("busy")',
    to: 'includes("busy") && this.underWay.size > 0',
    test: ["processes", "also between two of its steps"],
  },
  {
    name: "7 a handler that never leaves its loop is killed",
    file: "src/engine/handlers/hostProcess.ts",
    from: "if (now - this.lastSign > this.limits.stuckAfter) this.kill(loopNeverEnds)\n    else this.tell",
    to: "this.tell",
    and: [
      [
        "src/engine/handlers/hostProcess.ts",
        "if (Date.now() - this.lastSign > 1200) return this.kill(loopNeverEnds)",
        "",
      ],
    ],
    test: ["handlers", "never leaves its loop hurts"],
  },
  {
    name: "7 a host has a memory limit",
    file: "src/engine/handlers/housing.ts",
    from: "`--max-old-space-size=${memory}`",
    to: '"--max-old-space-size=6000"',
    and: [
      [
        "src/engine/handlers/hostProcess.ts",
        "if (words.memory > this.limits.memory * 2 * 1024 * 1024)",
        "if (words.memory < 0)",
      ],
    ],
    test: ["handlers", "eats memory"],
  },
  {
    name: "7 a handler has a deadline",
    file: "src/engine/handlers/hostProcess.ts",
    from: "run.timer = setTimeout(() => this.overdue(run), run.deadline)",
    to: "",
    test: ["handlers", "waits for ever hurts"],
  },
  {
    name: "7 a host ends with its service",
    file: "src/engine/handlers/housing.ts",
    from: 'kill -9 "$one"',
    to: "true",
    test: ["handlers", "leaves no handler behind"],
  },
  {
    name: "8 a batch that is refused is halved",
    file: "src/engine/groupCommit.ts",
    from: "if (items.length === 1) return alone(items[0]!, error as Error)",
    to: "throw error",
    test: ["strange", "will not take"],
  },
  {
    name: "8 NUL and lone surrogates are escaped",
    file: "src/core/message/json.ts",
    from: "? storableJson(read) : read",
    to: "? read : read",
    test: ["strange", "NUL"],
  },
  {
    name: "9 secrets in calls become fingerprints",
    file: "src/engine/seal.ts",
    from: "secretNames.test(name) ? seal.fingerprint(value) : known(value)",
    to: "value",
    test: ["secrets", "."],
  },
  {
    name: "1 a database that hangs counts as away",
    file: "src/engine/inlet/inlet.ts",
    from: "(kind.patience ?? usualPatience) * 800",
    to: "600_000",
    and: [["src/store/database.ts", "if (limit !== undefined) watch(connection, limit + 1)", ""]],
    test: ["hangs", "SIGSTOP"],
  },
  {
    name: "1 a connection that the network has swallowed is given up",
    file: "src/store/database.ts",
    from: "if (limit !== undefined) watch(connection, limit + 1)",
    to: "",
    test: ["hangs", "swallows"],
  },
  {
    name: "1 a month without a partition is made",
    file: "src/store/partitions.ts",
    from: 'if (code !== "23514"',
    to: 'if (code !== "none"',
    test: ["record", "no partition holds"],
  },
  {
    name: "1 a partition is made apart and attached",
    file: "src/store/partitions.ts",
    from: "CREATE TABLE ${name} (LIKE ${table} INCLUDING ALL);",
    to: "LOCK TABLE ${table} IN ACCESS EXCLUSIVE MODE; CREATE TABLE ${name} (LIKE ${table} INCLUDING ALL);",
    test: ["record", "reads for long"],
  },
  {
    name: "2 keys of events are forgotten by the database's clock",
    file: "src/engine/process/housekeeping.ts",
    from: "void doing.now()",
    to: "",
    test: ["record", "keys of events"],
  },
  {
    name: "6 duties are given up one by one",
    file: "src/store/leases.ts",
    from: "WHERE holder = ? AND duty = ?",
    to: "WHERE holder = ? AND ? IS NOT NULL",
    test: ["processes", "rolling restart"],
    and: [
      [
        "src/engine/sender/sender.ts",
        "for (const end = Date.now() + limit; this.underWay.size > 0",
        "for (const end = Date.now() + limit; this.underWay.size > 0 && limit > 10_000",
      ],
    ],
  },
  {
    name: "6 doubts are looked for together",
    file: "src/engine/sender/doubts.ts",
    from: "if (!this.looking) void this.look()",
    to: "void this.look()",
    test: ["doubts", "looked for together"],
  },
  {
    name: "6 a dark provider is asked a few times",
    file: "src/engine/sender/doubts.ts",
    from: 'if ("failure" in answer) questions.darkUntil = Date.now() + darkFor',
    to: "",
    test: ["doubts", "dark"],
  },
  {
    name: "7 a warm host takes what comes while another is silent",
    file: "src/engine/handlers/hosts.ts",
    from: "let able = this.hosts.filter((host) => !host.isQuiet)",
    to: "let able = [...this.hosts]",
    test: ["handlers", "waits for nothing"],
    may: "pass when the host with less to do is the one that is not stuck",
  },
  {
    name: "7 what a lane stands for stays ready",
    file: "src/engine/handlers/releases.ts",
    from: "entry.users === 0 && !this.onLanes.has(id)",
    to: "entry.users === 0",
    and: [
      [
        "src/engine/handlers/releases.ts",
        "    entry.used = ++this.uses\n    return entry",
        "    entry.used = ++this.uses\n    this.retire()\n    return entry",
      ],
    ],
    test: ["releases", "four live releases"],
  },
  {
    name: "8 the record is found without the memory for events",
    file: "src/store/intakeReads.ts",
    from: "for (const { intake, message } of await firstTold(database, forgotten)) found.get(intake)!.push(message)",
    to: "",
    test: ["record", "a passage is whole"],
  },
  {
    name: "8 lists have connections and a time limit of their own",
    file: "src/engine/engine.ts",
    from: "this.reading = openDatabase(databaseUrl, reading)",
    to: "this.reading = database",
    test: ["record", "takes too long"],
  },
  {
    name: "10 all live streams have one reader",
    file: "src/service/live.ts",
    from: "feed.join(",
    to: "new LiveFeed(engine.reading, engine.bell).join(",
    test: ["live", "three hundred"],
  },
  {
    name: "10 a provider's answer has a limit of size",
    file: "src/engine/calls/exchange.ts",
    from: "if (this.size > this.most)",
    to: "if (this.size < 0)",
    test: ["hostile", "never ends"],
  },
  {
    name: "10 an address that is nobody's is looked for once a second",
    file: "src/engine/channels.ts",
    from: "if (known || Date.now() - this.lookedAt < 1000) return known",
    to: "if (known) return known",
    test: ["hostile", "nobody's"],
  },
  {
    name: "identity: asked for with the first call",
    file: "src/engine/inlet/inlet.ts",
    from: "met.row.identity ? met : await identities.of(met)",
    to: "met",
    test: ["identity", "with its first call"],
  },
  {
    name: "forgetting: a turn that runs meanwhile is not committed",
    file: "src/store/forgetting.ts",
    from: "fence = fence + 1, holder = NULL, due_at = NULL, heard = next_position - 1, tries = 0, frozen = NULL",
    to: "tries = 0",
    test: ["forgetting", "a turn that runs meanwhile"],
  },
  {
    name: "forgetting: calls that name somebody are looked for",
    file: "src/store/forgetting.ts",
    from: "const calls = await clearCalls(",
    to: "const calls = await (async (..._given: unknown[]) => 0)(",
    test: ["forgetting", "leaves nothing that tells of them"],
  },
  {
    name: "9 a handler may read its bundle and nothing else",
    file: "src/engine/handlers/housing.ts",
    from: `          ...permissions,
          \`--allow-fs-read=\${script}\`,
          \`--allow-fs-read=\${bundle}\`,`,
    to: "",
    test: ["hostileHandler", "without root"],
  },
  {
    name: "9 handlers run under a user of their own",
    file: "src/engine/handlers/housing.ts",
    from: "if (user === undefined || canRun(user))",
    to: "if (user === undefined)",
    test: ["hostileHandler", "as root"],
  },
  {
    name: "10 bodies under way have a budget",
    file: "src/service/bodies.ts",
    from: "if (this.held + bytes <= this.most) return true\n    for",
    to: "if (this.held >= 0) return true\n    for",
    test: ["stranger", "take no memory"],
  },
  {
    name: "10 a call whose headers refute it is not read",
    file: "src/engine/inlet/inlet.ts",
    from: "return !verdict.genuine && verdict.byHead === true",
    to: "return false",
    test: ["stranger", "headers refute"],
  },
  {
    name: "10 long replies are rendered off the event loop",
    file: "src/engine/replies/renderer.ts",
    from: "return length <= light.length && marks <= light.marks",
    to: "return true",
    test: ["stranger", "others meanwhile"],
  },
  {
    name: "elsewhere: a turn that waits is nobody's until its answer is there",
    file: "src/store/turns.ts",
    from: "CASE WHEN w.waits < 2 OR i.saw = 2 THEN '${elsewhere}' END",
    to: "NULL",
    test: ["elsewhere", "whoever goes on talking"],
  },
  {
    name: "elsewhere: a lease is answered by whoever holds it",
    file: "src/store/waits.ts",
    from: "SET lease = (?::text[])[n.n], leased_by",
    to: "SET lease = coalesce(x.lease, (?::text[])[n.n]), leased_by",
    test: ["elsewhere", "a worker that ends with its lease"],
  },
  {
    name: "elsewhere: a turn is leased once",
    file: "src/store/waits.ts",
    from: "due_at = least(now() + ?::float8 * interval '1 second', x.until)\n     FROM n",
    to: "due_at = CASE WHEN ?::float8 > 0 THEN x.due_at END\n     FROM n",
    test: ["elsewhere", "two processes: a turn is leased once"],
  },
  {
    name: "elsewhere: what a process was asking is asked again when it ends",
    file: "src/store/leases.ts",
    from: "UPDATE waits SET due_at = now() WHERE kind <> 'queue'",
    to: "UPDATE waits SET due_at = due_at WHERE kind <> 'queue'",
    test: ["elsewhere", "what one asked the other continues"],
  },
  {
    name: "elsewhere: an answer before its wait is not lost",
    file: "src/store/turns.ts",
    from: "CASE WHEN w.waits = 2 AND i.saw < 2 THEN 2 ELSE 1 END",
    to: "1",
    and: [
      ["src/store/turns.ts", "WHEN i.freeze IS NOT NULL AND w.waits = 2 AND i.saw < 2 THEN now()", ""],
      ["src/store/turns.ts", "CASE WHEN w.waits < 2 OR i.saw = 2 THEN '${elsewhere}' END", "'${elsewhere}'"],
    ],
    test: ["elsewhere", "an answer that comes before the turn waits"],
  },
  {
    name: "models: what a person may use is counted over all processes",
    file: "src/store/spending.ts",
    from: "before![name] + dearest[name] > most[name]",
    to: "before![name] > Number.MAX_VALUE",
    test: ["models", "what a person may use in a day"],
  },
  {
    name: "notices: what is said and that it is said are one",
    file: "src/engine/notices/notices.ts",
    from: "await addToLine(step, { conversation, channel }",
    to: "await addToLine(this.parts.database, { conversation, channel }",
    test: ["notices", "notice: about to be said"],
  },
  {
    name: "identity: a bot that does not know itself answers no bot",
    file: "src/engine/turns/limits.ts",
    from: "if (!row.identity && kindOf(row.kind).readsByIdentity)",
    to: "if (Math.random() > 2)",
    test: ["identity", "never answers itself"],
  },
]

await setUp({ tests: true })
const wanted = process.argv.slice(2)
const chosen = mechanisms.filter(({ name }) => wanted.length === 0 || wanted.some((word) => name.includes(word)))
/** Taken out at once: their tests wait more than they compute. */
const atOnce = 2

/** Runs the tests of a mechanism on a build without it, and says what came of it. */
async function seen({ name, file, from, to, and = [], test, may }, outdir) {
  const changes = [[file, from, to], ...and]
  const plugin = {
    name: "without",
    setup(build) {
      build.onLoad({ filter: /src\/.*\.ts$/ }, ({ path }) => {
        const mine = changes.filter(([changed]) => path === join(root, changed))
        if (mine.length === 0) return undefined
        const text = mine.reduce(
          (source, [changed, before, after]) => {
            if (!source.includes(before)) throw new Error(`${changed} no longer holds: ${before}`)
            return source.replace(before, () => after)
          },
          readFileSync(path, "utf8"),
        )
        return { contents: text, loader: "ts" }
      })
    },
  }
  await bundle(outdir, testEntryPoints, true, [plugin])
  const [tests, pattern] = test
  const { status, said, hung } = await ran(outdir, [`tests/faults/${tests}`, "-t", pattern])
  const counts = /(\d+) passed, (\d+) failed\s*$/.exec(said.trim())
  const failed = hung || (status !== 0 && Number(counts?.[2] ?? 0) > 0)
  const came = hung
    ? `the tests of ${tests} never end`
    : failed
      ? `${counts[2]} of ${Number(counts[1]) + Number(counts[2])} tests of ${tests} fail`
      : `the tests of ${tests} still pass${may ? ` (they may ${may})` : ""}`
  console.log(`${failed ? "✓" : "✕"} without ${name}: ${came}`)
  return failed
}

/** Runs Jest on a build of its own, for some minutes at most. */
function ran(outdir, args) {
  const jest = ["--experimental-vm-modules", "--no-warnings", `${root}/node_modules/jest/bin/jest.js`]
  const child = spawn(process.execPath, [...jest, ...args], {
    cwd: root,
    env: { ...process.env, WOBBET_BUILD: outdir },
    stdio: ["ignore", "pipe", "ignore"],
  })
  let said = ""
  child.stdout.on("data", (chunk) => (said += chunk))
  let hung = false
  const limit = setTimeout(() => {
    hung = true
    child.kill()
  }, 200_000)
  return new Promise((resolve) =>
    child.once("close", (status) => {
      clearTimeout(limit)
      resolve({ status, said, hung })
    }),
  )
}

let standing = 0
const left = [...chosen]
await Promise.all(
  Array.from({ length: atOnce }, async (_, slot) => {
    for (let next = left.shift(); next; next = left.shift())
      if (!(await seen(next, `dist/without-${slot + 1}`))) standing++
  }),
)
console.log(standing === 0 ? "\nEvery test fails without its mechanism." : `\n${standing} not shown.`)
process.exit(standing === 0 ? 0 : 1)
