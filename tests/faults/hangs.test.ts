import { readFileSync } from "node:fs"
import type { Socket } from "node:net"
import { connect, createServer } from "node:net"
import { join } from "node:path"
import type { Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freePort,
  freshDatabase,
  pause,
  query,
  Stage,
  startDatabaseServer,
  startService,
  startStandin,
  tempFolder,
} from "../support/harness.ts"
import { longTest, whole } from "../support/killTable.ts"
import type { KindStage } from "../support/kinds.ts"
import { setKind } from "../support/kinds.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, hookSecret, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

/** What every caller hears while the database gives no answer, and that nothing is lost by it. */
async function survives(
  scene: { service: Awaited<ReturnType<typeof startService>>; stage: Stage; slack: KindStage },
  hang: () => unknown,
  wakeUp: () => unknown,
): Promise<void> {
  const { service, stage, slack } = scene
  await stage.say("say before")
  await stage.answered(1)
  await hang()
  const begun = Date.now()
  const [status, command, ready] = await Promise.all([
    bring(service, stage.key, hookSecret, update(stage.person.id, "say meanwhile")),
    slack.does("command", { channel: "C2", command: "/start" }),
    fetch(`${service.address}/health/ready`).then((answer) => answer.status),
  ])
  // A provider that repeats is told to; one that never does is told that its call is kept, while it still listens.
  expect([status, ready]).toEqual([503, 503])
  expect(command).toMatchObject({ status: 200, body: expect.stringContaining("a little longer") as unknown })
  // None of them waited for the end of what hangs.
  expect(Date.now() - begun).toBeLessThan(10_000)
  await wakeUp()
  await eventually(
    async () => (await bring(service, stage.key, hookSecret, update(stage.person.id, "say after"))) === 200,
    "calls to be taken again",
    60,
  )
  const said = await eventually(
    async () => {
      const texts = (await stage.answers()).map((answer) => answer.text)
      return texts.includes("you said after") ? texts : undefined
    },
    "the answer to what was said after",
    60,
  )
  expect(said[0]).toBe("you said before")
  const room = () => slack.standin.stage.screen("C2").filter((one) => !one.text.startsWith("(only you)"))
  await eventually(async () => room().some((one) => one.text.startsWith("Hello")), "the answer to the command", 60)
}

async function sceneOn(database: string) {
  const service = await startService({ database, bot: tempFolder(quayBot) })
  const stage = await Stage.set(service, standin, { gather: 0, perSecond: 1000, onDoubt: "resend" })
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
  await service.client.connectChannel(stage.key)
  const slack = await setKind(service, "slack")
  return { service, stage, slack }
}

test("a database server that hangs (SIGSTOP) is as good as away: 503, or local disk, and all goes on when it wakes", async () => {
  const server = await startDatabaseServer()
  const scene = await sceneOn(await server.freshDatabase())
  const pids = () => server.processes()
  const stopped: number[] = []
  await survives(
    scene,
    () => {
      for (const pid of pids()) {
        process.kill(pid, "SIGSTOP")
        stopped.push(pid)
      }
    },
    () => stopped.forEach((pid) => process.kill(pid, "SIGCONT")),
  )
  await scene.slack.stop()
  await scene.service.stop()
}, 150_000)

/** A server whose settings a test changes while it runs. */
async function settable() {
  const server = await startDatabaseServer()
  const database = await server.freshDatabase()
  // What is changed holds for everybody but whoever changes it.
  const options = encodeURIComponent("-c default_transaction_read_only=off -c synchronous_commit=local")
  const owner = `${server.ownerUrl("postgres")}&options=${options}`
  const name = /\/(t_\w+)/.exec(database)![1]!
  return { database, name, change: (...sql: string[]) => Promise.all(sql.map((one) => query(owner, one))) }
}

longTest(
  "a server that has become read-only is as good as away, and sessions opened meanwhile write when it does again",
  async () => {
    const { database, name, change } = await settable()
    const scene = await sceneOn(database)
    await survives(
      scene,
      async () => {
        // For those that are open, and for those that are opened meanwhile, until they end.
        await change(`ALTER DATABASE ${name} SET default_transaction_read_only = on`)
        await change("ALTER SYSTEM SET default_transaction_read_only = on")
        await change("SELECT pg_reload_conf()")
        await eventually(async () => isReadOnly(database), "the server to be read-only")
      },
      async () => {
        await change("ALTER SYSTEM RESET default_transaction_read_only")
        await change(`ALTER DATABASE ${name} RESET default_transaction_read_only`)
        await change("SELECT pg_reload_conf()")
      },
    )
    await scene.slack.stop()
    await scene.service.stop()
  },
  150_000,
)

async function isReadOnly(database: string): Promise<boolean> {
  const [found] = await query<{ on: string }>(database, "SELECT current_setting('transaction_read_only') AS on")
  return found!.on === "on"
}

longTest(
  "commits that wait for another server keep no row locked, and nothing is lost by them",
  async () => {
    const { database, change } = await settable()
    const scene = await sceneOn(database)
    await survives(
      scene,
      async () => {
        await change("ALTER SYSTEM SET synchronous_standby_names = 'nobody'")
        await change("SELECT pg_reload_conf()")
        await pause(500)
      },
      async () => {
        if (whole) {
          await pause(24_000)
          const old = "wait_event = 'SyncRep' AND query_start < now() - interval '20 seconds'"
          expect(await change(`SELECT pid FROM pg_stat_activity WHERE ${old}`)).toEqual([[]])
        }
        await change("ALTER SYSTEM RESET synchronous_standby_names")
        await change("SELECT pg_reload_conf()")
      },
    )
    await scene.slack.stop()
    await scene.service.stop()
  },
  150_000,
)

test("a network that swallows what is sent to the database is noticed, and new connections take its place", async () => {
  const target = new URL(process.env.TEST_DATABASE_SERVER!)
  const [port, behind] = [await freePort(), Number(target.port)]
  const open = new Set<{ near: Socket; far: Socket }>()
  const proxy = createServer((near) => {
    const far = connect(behind, target.hostname)
    const pair = { near, far }
    open.add(pair)
    near.pipe(far).pipe(near)
    const end = () => (open.delete(pair), near.destroy(), far.destroy())
    near.on("close", end).on("error", end)
    far.on("close", end).on("error", end)
  })
  await new Promise<void>((done) => proxy.listen(port, "127.0.0.1", done))
  const name = /\/(t_\w+)/.exec(await freshDatabase())![1]!
  target.port = String(port)
  const scene = await sceneOn(`${target.href.replace(/\/$/, "")}/${name}`)
  let swallowing = false
  proxy.on("connection", (near) => swallowing && near.pause())
  await survives(
    scene,
    () => {
      swallowing = true
      for (const { near, far } of open) {
        near.unpipe(far)
        far.unpipe(near)
        // Read and thrown away: nobody hears that the line is dead.
        near.resume()
        far.resume()
      }
    },
    () => (swallowing = false),
  )
  await scene.slack.stop()
  await scene.service.stop()
  for (const { near, far } of open) (near.destroy(), far.destroy())
  await new Promise((done) => proxy.close(done))
}, 150_000)

test("the own server asks for a password on its socket as well", async () => {
  const server = await startDatabaseServer()
  const url = await server.database("wobbet")
  expect(url).toContain("host=")
  const pg = (await import("pg")).default
  const stranger = new pg.Client({ connectionString: url.replace(/:[^:@]+@/, ":guess@") })
  stranger.on("error", () => undefined)
  await expect(stranger.connect()).rejects.toThrow(/password authentication failed/)
  expect(readFileSync(join(server.home, "database/pg_hba.conf"), "utf8")).not.toMatch(/^\w.*\s(trust|peer)\s*$/m)
  await pause(0)
})
