import { existsSync, mkdirSync, readFileSync, renameSync, rmSync, statSync } from "node:fs"
import { join } from "node:path"
import { gunzipSync } from "node:zlib"
import type { Service, Standin } from "./support/harness.ts"
import {
  emptyDatabase,
  endAll,
  eventually,
  pause,
  placeFor,
  query,
  root,
  run,
  Stage,
  startService,
  startStandin,
  tempFolder,
} from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let standin: Standin
let service: Service
let stage: Stage
let place: Awaited<ReturnType<typeof placeFor>>
let folder: string

beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor(quayBot)
  service = await startService(place)
  stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("count")
  await stage.answered(1)
  // What waits when the backup is made: a message nobody has answered, and a reply nobody has sent.
  await service.client.pauseChannel(stage.key)
  await stage.say("count")
  await eventually(async () => (await stage.messages({ direction: "in" })).length === 2, "the second message")
  const { conversation } = (await stage.messages())[0]!
  await service.client.send({ to: conversation, text: "written before the backup" })
  // Two interviews that wait, one for a time that is over when the backup is restored.
  for (const [id, due] of [
    ["itv_over", "2 seconds"],
    ["itv_ahead", "2 days"],
  ] as const)
    await query(
      place.database,
      `WITH made AS (INSERT INTO interviews (id, conversation, who, handler, release, stands, waits, mark, entries)
         VALUES ('${id}', 'cnv_of_its_own', 'con_1', 'ask', 'r', 'waits', '{"for": "time"}', 'm', 1) RETURNING id)
       INSERT INTO timers (id, conversation, interview, mark, what, due_at)
       SELECT 'tmr_' || id, 'cnv_of_its_own', id, 'm', 'time', now() + interval '${due}' FROM made`,
    )
  folder = join(tempFolder(), "first")
}, 60_000)
afterAll(endAll)

const wobbet = (args: string[], env: NodeJS.ProcessEnv = {}) => run(args, { ...service.env, ...env })

test("a backup is made beside a running service, is closed to others, and is told when it is in the way", async () => {
  const made = await wobbet(["backup", folder])
  expect(made).toMatchObject({ code: 0, out: expect.stringMatching(/● Backed up into .*first, \d+ kB\./) as unknown })
  expect(statSync(folder).mode & 0o077).toBe(0)
  const manifest = JSON.parse(readFileSync(join(folder, "manifest.json"), "utf8")) as object
  expect(manifest).toMatchObject({ holdsKey: true, keyMark: expect.stringMatching(/^[0-9a-f]{12}$/) as unknown })
  for (const name of ["manifest.json", "database.dump", "seal-key"])
    expect(statSync(join(folder, name)).mode & 0o077).toBe(0)
  expect(await wobbet(["backup", folder])).toMatchObject({
    code: 1,
    err: expect.stringContaining("is not empty.") as unknown,
  })
  const without = join(tempFolder(), "without")
  expect((await wobbet(["backup", without, "--without-key"])).out).toContain("its secrets stay sealed")
  expect(existsSync(join(without, "seal-key"))).toBe(false)
})

test("what the service does after the backup is not done again by the restored one: sending is off, what waited is parked", async () => {
  const before = (await stage.answers()).length
  await service.client.resumeChannel(stage.key)
  const answers = (await stage.answered(before + 2)).map((answer) => answer.text)
  expect(answers).toEqual(["count 1", "written before the backup", "count 2"])
  await service.stop()
  const open = "SELECT 1 FROM timers WHERE id = 'tmr_itv_over' AND due_at > now()"
  await eventually(async () => (await query(place.database, open)).length === 0, "the time to be over")

  const database = await emptyDatabase()
  const home = tempFolder()
  const restored = await wobbet(["restore", folder], { DATABASE_URL: database, WOBBET_HOME: home })
  expect([restored.code, restored.err]).toEqual([0, ""])
  expect(restored.out).toMatch(/Sending is off on 0 channels: none\.\n.*1 message to be answered, 1 reply to be sent\./)
  expect(restored.out).toContain("wobbet parked list")
  expect(
    await query(
      database,
      "SELECT id, ended, (SELECT count(*)::int FROM timers WHERE interview = i.id) AS timers FROM interviews i ORDER BY id",
    ),
  ).toEqual([
    { id: "itv_ahead", ended: null, timers: 1 },
    { id: "itv_over", ended: "stopped", timers: 0 },
  ])

  const again = await startService({ ...place, database, home })
  service = again
  const key = stage.key
  expect(await again.client.channel(key)).toMatchObject({ state: "paused" })
  const parked = (await again.client.parked({ channel: key })).items
  expect(parked.map(({ what, cause, text }) => [what, cause, text]).sort()).toEqual([
    ["send", "restored", "written before the backup"],
    ["turn", "restored", "count"],
  ])
  await again.client.resumeChannel(key)
  await pause(1500)
  expect((await stage.answers()).length).toBe(before + 2)
  // The state is that of the backup, and the line goes on.
  const near = new Stage(again, standin, stage.bot, stage.person, key)
  await near.say("count")
  expect((await near.answered(before + 3)).at(-1)!.text).toBe("count 2")
  // A person decides: one was not sent after all.
  const reply = parked.find(({ what }) => what === "send")!
  await again.client.retryParked(reply.id)
  expect((await near.answered(before + 4)).at(-1)!.text).toBe("written before the backup")
  for (const { id } of parked.filter(({ what }) => what === "turn")) await again.client.dropParked(id)
  expect((await again.client.parked({ channel: key })).items).toEqual([])
}, 60_000)

test("channels that were on are off after a restore, and say why", async () => {
  const second = join(tempFolder(), "second")
  // As in a record that comes from a server that has counted further than the one it is restored on.
  const far = "SET xid = (pg_current_xact_id()::text::bigint + 300)::text::xid8"
  const own = service.env.DATABASE_URL!
  await query(own, `UPDATE public.messages ${far}`)
  await query(own, `UPDATE public.parked ${far}, decided_xid = (pg_current_xact_id()::text::bigint + 300)::text::xid8`)
  expect((await wobbet(["backup", second])).code).toBe(0)
  const database = await emptyDatabase()
  const restored = await wobbet(["restore", second, "--json"], { DATABASE_URL: database, WOBBET_HOME: tempFolder() })
  expect(JSON.parse(restored.out)).toMatchObject({ channels: [stage.key], replies: 0, turns: 0 })
  const other = await startService({ bot: place.bot, database })
  expect(await other.client.channel(stage.key)).toMatchObject({
    state: "paused",
    reason: expect.stringContaining("restored from the backup of") as unknown,
    remedy: expect.stringContaining(`wobbet channel resume ${stage.key}`) as unknown,
  })
  // What was on record is not told as news.
  const told: string[] = []
  const stop = new AbortController()
  void (async () => {
    for await (const event of other.client.live(stop.signal)) told.push(event.what)
  })().catch(() => undefined)
  await pause(500)
  for (let n = 0; n < 400; n++) await query(database, "SELECT pg_current_xact_id()")
  await pause(2000)
  stop.abort()
  expect(told).toEqual([])
  await other.stop()
}, 60_000)

test("a restore refuses what it would destroy, what it cannot open and what is not a backup, and changes nothing", async () => {
  const database = await emptyDatabase()
  const home = tempFolder()
  const into = (more: NodeJS.ProcessEnv) => ({ DATABASE_URL: database, WOBBET_HOME: home, ...more })
  const refused = async (args: string[], env: NodeJS.ProcessEnv, says: RegExp) => {
    const { code, err } = await wobbet(["restore", ...args], env)
    expect([code, err]).toEqual([1, expect.stringMatching(says)])
  }
  await refused([tempFolder()], into({}), /is not a backup.*\n.*wobbet backup/)
  await refused([folder], into({ WOBBET_SEAL_KEY: "ab".repeat(32) }), /sealed with another key .*\n.*WOBBET_SEAL_KEY/)
  await refused([folder], { DATABASE_URL: service.env.DATABASE_URL }, /A service uses this database just now/)
  expect(await query(database, "SELECT 1 FROM pg_class WHERE relnamespace = 'public'::regnamespace")).toEqual([])
  await query(database, "CREATE TABLE public.mine (n int)")
  await refused([folder], into({}), /not empty.*\n.*--replace/)
  expect(await wobbet(["restore", folder, "--replace"], into({}))).toMatchObject({ code: 0 })
  expect((await query(database, "SELECT 1 FROM public.messages")).length).toBeGreaterThan(0)
  const broken = tempFolder()
  mkdirSync(broken, { recursive: true })
  for (const name of ["manifest.json", "seal-key"]) renameSync(join(folder, name), join(broken, name))
  rmSync(join(broken, "database.dump"), { force: true })
  await refused([broken, "--replace"], into({}), /pg_restore failed: .*database\.dump/)
}, 60_000)

test("a database that a later version wrote is refused, with the version that is needed, and nothing in it is changed", async () => {
  const database = await emptyDatabase()
  await query(database, gunzipSync(readFileSync(`${root}/tests/upgrades/0.4.0.sql.gz`)).toString("utf8"))
  const key = readFileSync(`${root}/tests/upgrades/0.4.0.seal-key`, "utf8").trim()
  const env = { WOBBET_ROLES: "api", WOBBET_SEAL_KEY: key }
  const own = await startService({ database, env })
  await own.stop()
  // As a later version leaves it.
  await query(
    database,
    "INSERT INTO public.knex_migrations (name, batch, migration_time) VALUES ('0099-later', 99, now())",
  )
  await query(database, "INSERT INTO public.versions (version, since) VALUES ('9.9.0', now() + interval '1 hour')")
  const { code, err } = await run(["serve"], { ...own.env, WOBBET_PORT: "0" })
  expect([code, err]).toEqual([
    1,
    expect.stringMatching(
      /written by Wobbet 9\.9\.0, and this is \d+\.\d+\.\d+\. Start version 9\.9\.0 or a later one.*Nothing was changed/,
    ),
  ])
}, 60_000)
