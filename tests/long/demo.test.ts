import { existsSync } from "node:fs"
import { createServer } from "node:net"
import { join } from "node:path"
import {
  atEnd,
  endAll,
  eventually,
  freshDatabase,
  isRunning,
  root,
  run,
  runProcess,
  start,
  tempFolder,
} from "../support/harness.ts"

afterAll(endAll)

/** A port with room for a whole demo from it on, below those that the system gives to whoever asks for any. */
async function baseFor(): Promise<number> {
  for (;;) {
    const base = 20_000 + Math.floor(Math.random() * 12_000)
    const ports = [base, ...Array.from({ length: 8 }, (_none, at) => base + 110 + at)]
    if ((await Promise.all(ports.map(isFree))).every(Boolean)) return base
  }
}

function isFree(port: number): Promise<boolean> {
  return new Promise((resolve) => {
    const probe = createServer()
    probe.once("error", () => resolve(false))
    probe.listen(port, "127.0.0.1", () => probe.close(() => resolve(true)))
  })
}

/** What `npm run demo` runs. */
const program = join(root, "scripts/run.mjs")

test("a second demo runs beside the first, with all its ports and data of its own", async () => {
  const [one, two] = [await baseFor(), await baseFor()]
  const demo = async (base: number) => {
    const home = tempFolder()
    const env = { WOBBET_HOME: home, DATABASE_URL: await freshDatabase() }
    const running = await start(
      ["demo", "--quiet-quay", "--port-base", String(base)],
      env,
      /Ctrl-C stops everything/,
      program,
    )
    return { ...running, home, env: { ...env, WOBBET_PORT: String(base) } }
  }
  const first = await demo(one)
  const second = await demo(two)
  for (const { env, said, home } of [first, second]) {
    const base = Number(env.WOBBET_PORT)
    expect(said()).toContain(`http://127.0.0.1:${base}/signin?once=`)
    expect(said()).toContain(`Telegram http://127.0.0.1:${base + 110}/`)
    expect(said()).toContain(`buoy http://127.0.0.1:${base + 117}/`)
    expect(existsSync(join(home, "ferry/bot.yaml"))).toBe(true)
    // The handlers ask the harbour office of their own demo.
    await eventually(
      async () => (await run(["message", "find", "Next boat to", "--status", "sent"], env)).out.includes("Next boat"),
      "an answer with the timetable",
    )
    const { items } = JSON.parse(
      (await run(["channel", "list", "--json"], env)).out.replace(/^\[/, '{"items":[').replace(/\]\s*$/, "]}"),
    ) as {
      items: { settings: { apiBase?: string } }[]
    }
    const places = items.flatMap(({ settings }) => settings.apiBase ?? [])
    expect(places.length).toBeGreaterThan(5)
    const ports = places.map((address) => Number(new URL(address).port) - base)
    expect(ports.filter((port) => port < 110 || port > 117)).toEqual([])
  }
  // Beside a running demo its ports are found taken before anything else is done, and the process ends.
  const third = await runProcess(
    ["demo", "--port-base", String(one)],
    { WOBBET_HOME: join(tempFolder(), "new") },
    program,
  )
  expect(third).toMatchObject({
    code: 1,
    err: expect.stringMatching(new RegExp(`✕ Port ${one} is taken\\.\\n.*--port-base 5180`)) as unknown,
  })
  for (const { child } of [first, second]) {
    child.kill("SIGINT")
    await eventually(async () => !isRunning(child.pid!), "the demo to end")
  }
}, 120_000)

test("a demo that cannot be started leaves nothing running", async () => {
  const base = await baseFor()
  const taken = createServer()
  await new Promise<void>((done) => taken.listen(base + 113, "127.0.0.1", done))
  atEnd(() => void taken.close())
  // By the command itself, which looks at nothing beforehand.
  const { code, err } = await runProcess(["demo", "--port-base", String(base)], {
    WOBBET_HOME: tempFolder(),
    DATABASE_URL: await freshDatabase(),
  })
  expect([code, err]).toEqual([
    1,
    expect.stringContaining(`Port ${base + 113}, which one of the stand-ins needs, is taken.`),
  ])
  expect(await Promise.all([base, base + 110, base + 111, base + 112].map(isFree))).toEqual([true, true, true, true])
}, 60_000)
