import type { ChildProcess } from "node:child_process"
import { spawn } from "node:child_process"
import { readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import { transform } from "esbuild"
import type { ServiceProcess, Standin } from "../support/harness.ts"
import {
  atEnd,
  endAll,
  eventually,
  freePort,
  pause,
  placeFor,
  query,
  root,
  Stage,
  startProcess,
  startService,
  startStandin,
  tempFolder,
} from "../support/harness.ts"

const page = readFileSync(join(root, "docs/ask-elsewhere.md"), "utf8")

/** The code of a file as the page has it. */
function written(file: string): string {
  const found = new RegExp(`^\`\`\`\\w+\\n((?:#|//) ${file}\\n[\\s\\S]*?)^\`\`\`$`, "m").exec(page)
  if (!found) throw new Error(`the page has no ${file}`)
  return found[1]!
}

const key = "harbour-office-key"
let standin: Standin
let folder: string
beforeAll(async () => {
  standin = await startStandin()
  folder = tempFolder()
  for (const file of ["office.py", "worker.py", "worker.sh"]) writeFileSync(join(folder, file), written(file))
  const { code } = await transform(written("office.ts"), { loader: "ts", format: "esm" })
  writeFileSync(join(folder, "office.mjs"), code)
})
afterAll(endAll)

function program(command: string, file: string, env: NodeJS.ProcessEnv): ChildProcess {
  const child = spawn(command, [join(folder, file)], { env: { PATH: process.env.PATH, ...env }, stdio: "ignore" })
  atEnd(() => void child.kill("SIGKILL"))
  return child
}

/** As whatever looks after somebody's programs does it. */
function keptRunning(command: string, file: string, env: NodeJS.ProcessEnv): () => void {
  let over = false
  const run = () => {
    const child = program(command, file, env)
    child.once("exit", () => void (over || setTimeout(run, 300)))
    current = child
  }
  let current: ChildProcess
  run()
  const end = () => {
    over = true
    current.kill("SIGKILL")
  }
  atEnd(end)
  return end
}

/** The bot as the page has it, with the endpoint at a port of the test's own. */
const botAt = (port: number) => written("bot.yaml").replace("8085", String(port))

async function listening(port: number): Promise<void> {
  await eventually(async () => (await fetch(`http://127.0.0.1:${port}/`)).status > 0, `something at ${port}`)
}

test.each([
  ["in TypeScript", process.execPath, "office.mjs"],
  ["in Python", "python3", "office.py"],
])(
  "the endpoint %s answers, remembers, and believes nobody else",
  async (_in, command, file) => {
    const port = await freePort()
    const where = await placeFor({ "bot.yaml": botAt(port) })
    const env = { WOBBET_PRIVATE_NETWORKS: "127.0.0.1" }
    const service = await startProcess({ ...where, env })
    await service.client.setSecret("OFFICE_KEY", { value: key, bot: "tern-point-ferry" })
    const stage = await Stage.set(service, standin, { gather: 0 })
    await eventually(async () => (await service.client.bot()).release !== undefined, "the bot")
    program(command, file, { PORT: String(port), OFFICE_KEY: key })
    await listening(port)
    const forged = await fetch(`http://127.0.0.1:${port}/times`, {
      method: "POST",
      headers: {
        "webhook-id": "x",
        "webhook-timestamp": String(Math.floor(Date.now() / 1000)),
        "webhook-signature": "v1,AAAA",
      },
      body: "{}",
    })
    expect(forged.status).toBe(401)
    const people = await Promise.all(
      Array.from({ length: 8 }, () =>
        standin.post<{ id: number }>("people", { first_name: "Ana", language_code: "en" }),
      ),
    )
    const say = (n: number) =>
      Promise.all(
        people.map((from) => stage.send({ from: from.id, text: n === 1 ? "next boat to Tern Point" : "next boat" })),
      )
    await say(1)
    // The service is killed while they are under way.
    await pause(30)
    await service.stop("SIGKILL")
    const again = await startService({ ...where, env })
    await say(2)
    const both = ["Next boat to Tern Point: 14:20", "Next boat to Holm Island: 14:20"]
    for (const { id } of people)
      await eventually(async () => (await stage.saidOrDoubted(id)).length >= 2, `both answers to ${id}`)
    await pause(500)
    for (const { id } of people) {
      expect((await stage.saidOrDoubted(id)).sort()).toEqual([...both].sort())
      expect((await stage.answers(id)).at(-1)!.text).toBe(both[1])
    }
    expect(await query(where.database, "SELECT DISTINCT state->>'asked' AS asked FROM states")).toEqual([
      { asked: "2" },
    ])
    await again.stop()
  },
  90_000,
)

describe.each([
  ["Python", "python3", "worker.py", /^A (red|blue) suitcase\? It stands at the quay\.$/],
  ["sh", "sh", "worker.sh", /^It stands at the quay\.$/],
])("the worker in %s", (_in, command, file, says) => {
  let service: ServiceProcess
  let stage: Stage

  test("answers each turn once, with the service and the worker killed in between", async () => {
    const where = await placeFor({ "bot.yaml": botAt(1) })
    service = await startProcess(where)
    await service.client.setSecret("OFFICE_KEY", { value: key, bot: "tern-point-ferry" })
    stage = await Stage.set(service, standin, { gather: 0 })
    await eventually(async () => (await service.client.bot()).release !== undefined, "the bot")
    const { token } = await service.client.makeWorkerToken("baggage-worker", "baggage")
    const end = keptRunning(command, file, { WOBBET_URL: service.address, WOBBET_TOKEN: token })
    const people = await Promise.all(
      Array.from({ length: 12 }, () =>
        standin.post<{ id: number }>("people", { first_name: "Ana", language_code: "en" }),
      ),
    )
    const say = (some: typeof people, colour: string) =>
      Promise.all(some.map((from) => stage.send({ from: from.id, text: `lost my ${colour} suitcase` })))
    await say(people.slice(0, 6), "red")
    await pause(100)
    await service.stop("SIGKILL")
    await pause(500)
    const again = await startService(where)
    await say(people.slice(6), "blue")
    // A lease whose answer was lost with the service comes back after a minute.
    await eventually(
      async () => (await Promise.all(people.map(({ id }) => stage.saidOrDoubted(id)))).every((all) => all.length >= 2),
      "all answers",
      90,
    )
    end()
    await pause(500)
    for (const { id } of people) {
      const all = await stage.saidOrDoubted(id)
      expect(all).toHaveLength(2)
      expect(all).toEqual(expect.arrayContaining(["We look for it.", expect.stringMatching(says)]))
    }
    // Nobody was being written to when those were asked who spoke afterwards.
    for (const { id } of people.slice(6))
      expect((await stage.answers(id)).map(({ text }) => text)).toEqual([
        "We look for it.",
        expect.stringMatching(says),
      ])
    await again.stop()
  }, 150_000)
})
