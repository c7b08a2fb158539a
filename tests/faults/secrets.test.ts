import { readdirSync, readFileSync, statSync } from "node:fs"
import { join } from "node:path"
import type { Standin } from "../support/harness.ts"
import { endAll, freshDatabase, query, Stage, startService, startStandin, tempFolder } from "../support/harness.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, hookSecret, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

test("secrets stay in: in no table, log line, file or answer, whatever goes wrong", async () => {
  const database = await freshDatabase()
  const home = tempFolder()
  const service = await startService({ bot: tempFolder(quayBot), database, home })
  const stage = await Stage.set(service, standin, { gather: 0 })
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
  await service.client.connectChannel(stage.key)
  for (const kind of ["500", "drop"]) await standin.post("faults", { kind, method: "sendMessage", count: 1 })
  await stage.say("throw")
  await stage.say("say it")
  await bring(service, stage.key, "a-guessed-word", update(stage.person.id, "say it"))
  await bring(service, `${stage.key}?token=${stage.bot.token}`, hookSecret, "{ broken")
  await stage.answered(1)
  await service.client.pauseChannel(stage.key)
  const { items } = await service.client.passages({ channel: stage.key })
  const passages = await Promise.all(items.map((item) => service.client.passage(item.id)))
  await service.stop()

  const tables = await query<{ name: string }>(
    database,
    "SELECT format('%I', tablename) AS name FROM pg_tables WHERE schemaname = 'public'",
  )
  expect(tables.length).toBeGreaterThan(15)
  const rows = await Promise.all(
    tables.map(async ({ name }) =>
      (await query<{ row: string }>(database, `SELECT t::text AS row FROM ${name} t`)).map((one) => one.row),
    ),
  )
  const bodies = await query<{ body: string }>(database, "SELECT convert_from(body, 'UTF8') AS body FROM intakes")
  const files = readdirSync(home, { recursive: true, encoding: "utf8" })
    // The key and the local token are files made to hold them.
    .filter((name) => statSync(join(home, name)).isFile() && !/^(token|seal-key|database)/.test(name))
    .map((name) => readFileSync(join(home, name), "utf8"))
  const places = {
    database: rows
      .flat()
      .concat(bodies.map((body) => body.body))
      .join("\n"),
    log: service.said(),
    answers: JSON.stringify(passages),
    files: files.join("\n"),
  }
  expect(places.database.length).toBeGreaterThan(5000)
  for (const secret of [stage.bot.token, hookSecret, "a-guessed-word", "0f".repeat(32)]) {
    for (const [place, text] of Object.entries(places)) expect([place, text.includes(secret)]).toEqual([place, false])
  }
}, 60_000)
