import { createHash } from "node:crypto"
import { existsSync, mkdirSync, readdirSync } from "node:fs"
import { join } from "node:path"
import { ulid } from "ulid"
import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, placeFor, run, Stage, startService, startStandin, writeFiles } from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"
import { update } from "./support/updates.ts"

let standin: Standin
let where: Awaited<ReturnType<typeof placeFor>>
let service: Service
let stage: Stage
let folder: string
beforeAll(async () => {
  standin = await startStandin()
  where = await placeFor(quayBot)
  service = await startService(where)
  stage = await Stage.set(service, standin)
  await standin.post("start", { bot: stage.bot.username, from: stage.person.id })
  folder = join(where.home, "journal")
})
afterAll(endAll)

/** A line as versions up to 0.13.1 wrote it. An id that is none of ours is refused by the database. */
function earlierLine(text: string, id = `itk_${ulid().toLowerCase()}`): string {
  const json = JSON.stringify({
    id,
    channel: stage.key,
    method: "POST",
    address: `/in/${stage.key}`,
    headers: { "content-type": "application/json" },
    body: Buffer.from(JSON.stringify(update(stage.person.id, text))).toString("base64"),
    by: "its secret",
    answered: 200,
    receivedAt: new Date().toISOString(),
  })
  return `${createHash("sha256").update(json).digest("hex").slice(0, 16)} ${json}\n`
}

const texts = async (n: number) => (await stage.answered(n)).map((answer) => answer.text)
const env = () => ({ WOBBET_URL: service.address, WOBBET_TOKEN: service.token })

test("an upgrade reads in what an earlier version left behind, also behind a line that was never finished", async () => {
  await service.stop()
  mkdirSync(folder, { recursive: true })
  const half = earlierLine("say never acknowledged").slice(0, 70)
  writeFiles(folder, {
    "01760000000001-m1.7.x.calls.broken": earlierLine("say 1") + half + earlierLine("say 2"),
    "01760000000002-m1.7.x.calls": earlierLine("say 3") + half,
  })
  service = await startService(where)
  expect(await texts(3)).toEqual(["you said 1", "you said 2", "you said 3"])
  expect(service.said()).toMatch(/part of a journal file cannot be read: it is kept.*\n.*\n.*\n.*damaged: 1\n/)
  expect(service.said()).toMatch(/ends with half a call, whose caller had no answer\n.*\n.*\n.*torn: 70\n/)
})

test("wobbet journal shows what is kept because of damage, and reads what is whole again: nothing twice", async () => {
  const file = "0001760000000001~m1.7.x~kept"
  expect(readdirSync(folder)).toEqual([file])
  const shown = await run(["journal", "show"], env())
  expect(shown.out).toMatch(new RegExp(`kept +2 +1 place +\\d+ +m1\\.7\\.x +${file}`))
  const read = await run(["journal", "read"], env())
  expect([read.code, read.out]).toEqual([0, expect.stringMatching(new RegExp(`2 +1 place +${file}`))])
  expect(readdirSync(folder)).toEqual([file])
  expect(await texts(3)).toHaveLength(3)
  // A program reads the same.
  const asJson = JSON.parse((await run(["journal", "show", "--json"], env())).out) as { items: object[] }
  expect(asJson.items).toEqual([
    expect.objectContaining({ file, state: "kept", writer: "m1.7.x", own: false, calls: 2, damaged: 1, torn: 0 }),
  ])
})

test("with nothing on disk it says so; whoever only reads may not read in", async () => {
  await service.stop()
  const other = await placeFor(quayBot)
  service = await startService(other)
  expect((await run(["journal", "show"], env())).out).toContain("Nothing waits on local disk.")
  expect((await run(["journal", "read"], env())).out).toContain("There was nothing to read in.")
  const { token } = await service.client.makeToken("looks on", "reader")
  const refused = await run(["journal", "read"], { ...env(), WOBBET_TOKEN: token })
  expect([refused.code, refused.err]).toEqual([1, expect.stringContaining("operator")])
})

test("a file that the database will not take, call by call, is kept, and the calls beside it are handled", async () => {
  await service.stop()
  service = await startService(where)
  const unfit = earlierLine("say unfit", ulid())
  writeFiles(folder, { "01760000000009-m1.7.x.calls": earlierLine("say 4") + unfit + earlierLine("say 5") })
  expect((await texts(5)).slice(3)).toEqual(["you said 4", "you said 5"])
  await eventually(async () => existsSync(join(folder, "0001760000000009~m1.7.x~kept")), "the file to be kept")
  expect(service.said()).toMatch(/a call of the local journal cannot be kept in the database/)
  // Two files by now, page by page.
  const first = await service.client.journal({ limit: 1 })
  const second = await service.client.journal({ limit: 1, cursor: first.next! })
  expect([...first.items, ...second.items].map(({ file }) => file.slice(0, 16))).toEqual([
    "0001760000000001",
    "0001760000000009",
  ])
  expect(second.next).toBeNull()
})
