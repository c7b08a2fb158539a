import { execFileSync, spawn } from "node:child_process"
import { writeFileSync } from "node:fs"
import { join } from "node:path"
import { binaries } from "../src/store/embedded.ts"
import type { Service, Standin } from "./support/harness.ts"
import {
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

const value = "fares of the harbour: k3y/with+signs&more"
const bot = {
  "bot.yaml": `
bot: tern
groups: always
routes:
  - { name: fare, when: { phrase: "fare" }, handler: fare, secrets: [FARES_KEY] }
  - { name: leak, when: { phrase: "leak $word{how}" }, handler: leak, secrets: FARES_KEY }
  - { name: other, when: { phrase: "other" }, handler: fare }
  - { name: quote, when: { phrase: "quote" }, handler: quote, secrets: [FARES_KEY] }
  - { name: persona, when: { phrase: "persona" }, handler: persona }
`,
  "files/persona.txt": "An old hand of the ferry.",
  "files/deep/note.md": "deep",
  "handlers/fare.ts": `import { handler, secret } from "wobbet"
export default handler(() => "The key has " + secret("FARES_KEY").length + " characters.")`,
  "handlers/leak.ts": `import { handler, secret } from "wobbet"
export default handler(async ({ slots, once }) => {
  const key = secret("FARES_KEY")
  console.log("the key is " + key)
  if (slots.how === "thrown") throw new Error("refused: " + Buffer.from(key).toString("base64"))
  if (slots.how === "once") await once("asked", () => ({ used: key }))
  return { replies: "key=" + encodeURIComponent(key), state: { key, [key]: 1 }, contact: { key } }
})`,
  "handlers/quote.ts": `import { answer, interview, once, secret } from "wobbet"
export default interview(function* () {
  const seats = yield* answer.integer("How many seats?")
  const fare = yield* once("fare", () => seats * secret("FARES_KEY").length)
  return "That is " + fare + "."
})`,
  "handlers/persona.ts": `import { file, handler } from "wobbet"
export default handler(() => file("persona.txt") + " " + file("deep/note.md") + " " + file("none.txt"))`,
}

let standin: Standin
let service: Service
let stage: Stage
let place: Awaited<ReturnType<typeof placeFor>>
beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor(bot)
  service = await startService(place)
  stage = await Stage.set(service, standin, { gather: 0 })
}, 60_000)
afterAll(endAll)

const wobbet = (args: string[], env: NodeJS.ProcessEnv = {}) => run(args, { ...service.env, ...env })

/** The command with something on its standard input. */
async function given(input: string, ...args: string[]): Promise<{ code: number | null; out: string }> {
  const child = spawn(process.execPath, [join(root, "dist/wobbet.js"), ...args], {
    env: { PATH: process.env.PATH, ...service.env },
    stdio: ["pipe", "pipe", "pipe"],
  })
  let out = ""
  child.stdout.on("data", (chunk) => (out += String(chunk)))
  child.stderr.on("data", (chunk) => (out += String(chunk)))
  child.stdin.end(input)
  const code = await new Promise<number | null>((done) => child.once("close", done))
  return { code, out }
}

test("a handler that lists an unknown secret is a fault; set, the bot is loaded by itself", async () => {
  const { faults } = await service.client.bot()
  expect(faults).toMatchObject([
    {
      says: 'the route "fare" lists the secret FARES_KEY, which is not set',
      remedy: 'Set it with "wobbet secret set FARES_KEY --bot tern".',
    },
  ])
  const set = await given(`${value}\n`, "secret", "set", "FARES_KEY", "--bot", "tern")
  expect(set).toMatchObject({
    code: 0,
    out: expect.stringContaining("● The secret FARES_KEY of tern is set.") as unknown,
  })
  await eventually(async () => (await service.client.bot()).faults.length === 0, "the bot")
  await stage.say("fare")
  expect((await stage.answered(1))[0]!.text).toBe(`The key has ${value.length} characters.`)
  expect((await wobbet(["secret", "list"])).out).toMatch(
    /FARES_KEY\s+tern\s+all\s+.*fare \(live\), leak \(live\), quote \(live\)/,
  )
  expect((await service.client.audit({ did: "secret set" })).items[0]).toMatchObject({ detail: { name: "FARES_KEY" } })
})

test("a handler whose route does not list it gets nothing", async () => {
  await stage.say("other")
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the parked turn",
    40,
  )
  expect(parked!.reason).toContain('The secret "FARES_KEY" is not listed')
  await service.client.dropParked(parked!.id)
}, 60_000)

test("a value that turns up anywhere is masked, and the turn says so", async () => {
  const before = (await stage.answers()).length
  await stage.say("leak plain")
  expect((await stage.answered(before + 1)).at(-1)!.text).toBe("key=[secret FARES_KEY]")
  await stage.say("leak once")
  await stage.answered(before + 2)
  const [last] = await stage.messages({ direction: "in" })
  const { out } = await wobbet(["passage", last!.id])
  expect(out).toContain("the secret FARES_KEY stood in what the handler gave, and was masked")
  expect(out).toContain("the key is [secret FARES_KEY]")
  await stage.say("leak thrown")
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the parked turn",
    40,
  )
  expect(parked!.reason).toContain("refused: [secret FARES_KEY]")
  await service.client.dropParked(parked!.id)

  // Nowhere in the database, in no usual encoding, and not in the log.
  const forms = [
    value,
    encodeURIComponent(value),
    Buffer.from(value).toString("base64").replace(/=+$/, ""),
    "k3y/with",
    "k3y%2Fwith",
  ]
  const dump = execFileSync(join(binaries(), "pg_dump"), ["--inserts", `--dbname=${place.database}`], {
    maxBuffer: 1 << 28,
  }).toString("utf8")
  for (const form of forms) {
    expect(dump.includes(form)).toBe(false)
    expect(service.said().includes(form)).toBe(false)
    expect(dump.includes(Buffer.from(form).toString("hex"))).toBe(false)
  }
}, 60_000)

test("an interview has it at every step", async () => {
  const before = (await stage.answers()).length
  await stage.say("quote")
  await stage.answered(before + 1)
  await stage.say("3")
  expect((await stage.answered(before + 2)).at(-1)!.text).toBe(`That is ${3 * value.length}.`)
})

test("a lane has its own; replaced, it counts from the next turn; dropped, its routes fail", async () => {
  const file = join(tempFolder(), "key")
  writeFileSync(file, "for the test lane")
  expect((await wobbet(["secret", "set", "FARES_KEY", "--lane", "test", "--file", file])).out).toContain(
    "of tern for the lane test is set",
  )
  const said = async (text: string) => {
    const before = (await stage.answers()).length
    await stage.say(text)
    return (await stage.answered(before + 1)).at(-1)!.text
  }
  expect(await said("fare")).toBe(`The key has ${value.length} characters.`)
  const replaced = await wobbet(["secret", "set", "FARES_KEY", "--env", "NEW_KEY"], { NEW_KEY: "another one" })
  expect(replaced.out).toContain("is replaced")
  // Told to every process at once, without a promise as to the millisecond.
  await eventually(async () => (await said("fare")) === "The key has 11 characters.", "the new value", 5)
  expect((await wobbet(["secret", "drop", "FARES_KEY"])).code).toBe(0)
  await pause(2500)
  await stage.say("fare")
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the parked turn",
    40,
  )
  expect(parked!.reason).toContain("the secret FARES_KEY is not set: wobbet secret set FARES_KEY --bot tern")
  await service.client.dropParked(parked!.id)
}, 60_000)

test.each<[args: string[], says: string, code: number]>([
  [["secret", "set", "fares", "--env", "HOME"], "is no name for a secret", 2],
  [["secret", "set", "FARES", "--env", "NOT_THERE"], "The environment has no NOT_THERE.", 1],
  [["secret", "set", "FARES", "--file", "/nowhere/at/all"], "cannot be read", 1],
  [["secret", "set", "FARES", "--file", "a", "--env", "b"], "A value has one source", 1],
  [["secret", "drop", "NOT_SET"], 'There is no secret "NOT_SET".', 1],
])("wobbet %j says what is wrong", async (args, says, code) => {
  const failed = await wobbet(args)
  expect([failed.code, failed.err]).toEqual([code, expect.stringContaining(says)])
})

test("files of the folder travel with the release, and one that is not there is named", async () => {
  await stage.say("persona")
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the parked turn",
    40,
  )
  expect(parked!.reason).toContain('There is no file "none.txt" under files/: deep/note.md, persona.txt.')
  await service.client.dropParked(parked!.id)
  const fixed = bot["handlers/persona.ts"].replace(' + " " + file("none.txt")', "")
  writeFileSync(join(place.bot, "handlers/persona.ts"), fixed)
  // The secret its other routes list was dropped.
  await service.client.setSecret("FARES_KEY", { value: "once more" })
  const before = (await stage.answers()).length
  await eventually(async () => {
    await stage.say("persona")
    return (await stage.answers()).slice(before).some(({ text }) => text === "An old hand of the ferry. deep")
  }, "the new release")
  expect(await query(place.database, "SELECT 1 FROM secrets WHERE sealed LIKE '%once more%'")).toEqual([])
}, 90_000)
