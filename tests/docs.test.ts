import { spawn } from "node:child_process"
import { readFileSync, rmSync } from "node:fs"
import { join } from "node:path"
import type { Standin } from "./support/harness.ts"
import { endAll, eventually, root, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

/** The blocks of code in a page, by their language, in their order. */
function blocks(page: string): { language: string; code: string }[] {
  const text = readFileSync(join(root, "docs", page), "utf8")
  return [...text.matchAll(/^```(\w+)\n([\s\S]*?)^```$/gm)].map(([, language, code]) => ({
    language: language!,
    code: code!,
  }))
}

async function buildWith(folder: string, sources: { [path: string]: string }): Promise<void> {
  const child = spawn(process.execPath, [join(root, "tests/support/buildWith.mjs"), folder], { cwd: root })
  let said = ""
  child.stderr.on("data", (chunk) => (said += String(chunk)))
  child.stdin.end(JSON.stringify(sources))
  const code = await new Promise((done) => child.once("close", done))
  if (code !== 0) throw new Error(said)
}

test("docs/add-a-handler-kind.md as written: one file and one line make a new kind of handler", async () => {
  const [file, line, yaml] = blocks("add-a-handler-kind.md").map((block) => block.code)
  const path = /^\/\/ (\S+)/.exec(file!)![1]!
  const registry = "src/engine/handlers/registry.ts"
  const before = readFileSync(join(root, registry), "utf8")
  const after = before.replace(/^const kinds: HandlerKind\[\] = \[[^\]]*\]$/m, line!.trim())
  expect(after).not.toBe(before)
  const folder = "dist/with-a-kind"
  await buildWith(folder, { [path]: file!, [registry]: `import { bell } from "./bell.ts"\n${after}` })
  const bot = tempFolder({ "bot.yaml": yaml! })
  const service = await startService({ bot, program: join(root, folder, "wobbet.js") })
  const stage = await Stage.set(service, standin)
  await stage.say("ring")
  await stage.answered(1)
  await stage.say("ring")
  expect((await stage.answered(2)).map((one) => one.text)).toEqual([
    "Ding. Ding. That makes 2.",
    "Ding. Ding. That makes 4.",
  ])
  const [message] = await stage.messages({ direction: "in" })
  const turn = await eventually(async () => (await service.client.passage(message!.id)).paths[0]!.turns[0], "its turn")
  expect(turn).toMatchObject({ handler: "bell", route: "watch", stateAfter: { rung: 4 } })
  // Written wrongly, its own schema says what is right, with the line.
  const wrong = tempFolder({ "bot.yaml": yaml!.replace("bell: 2", "bell: 12") })
  const { faults } = await service.client.checkBot(wrong)
  expect(faults).toMatchObject([{ line: 3, says: expect.stringContaining("less than or equal to 8") as unknown }])
  await service.stop()
  rmSync(join(root, folder), { recursive: true })
}, 90_000)

test("docs/code-layout.md and its picture are as the code is", async () => {
  const child = spawn(process.execPath, ["scripts/layout.mjs", "--check"], { cwd: root })
  let said = ""
  child.stderr.on("data", (chunk) => (said += String(chunk)))
  expect([await new Promise((done) => child.once("close", done)), said]).toEqual([0, ""])
})

test("docs/add-a-kind.md: a folder and a line in the registry are all that a new kind of channel touches", async () => {
  // A kind that speaks as one there is, under a name that nothing else has ever heard.
  const kind = `import type { ChannelKind } from "../kind.ts"
import { telegram } from "../telegram/index.ts"
export const lantern: ChannelKind = { ...telegram, kind: "lantern", provider: "Lantern" }
`
  const registry = "src/core/channels/registry.ts"
  const before = readFileSync(join(root, registry), "utf8")
  const after = before.replace("= { telegram, ", "= { lantern, telegram, ")
  expect(after).not.toBe(before)
  const folder = "dist/with-a-channel-kind"
  await buildWith(folder, {
    "src/core/channels/lantern/index.ts": kind,
    [registry]: `import { lantern } from "./lantern/index.ts"\n${after}`,
  })
  const bot = tempFolder({ "bot.yaml": "bot: watch\nunrouted: { text: 'Heard on {{channel.kind}}.' }\n" })
  const service = await startService({ bot, program: join(root, folder, "wobbet.js") })
  const stage = await Stage.set(service, standin, {}, "lantern")
  expect(await service.client.channel(stage.key)).toMatchObject({
    kind: "lantern",
    identity: { handle: stage.bot.username },
  })
  await stage.say("ahoy")
  expect((await stage.answered(1))[0]!.text).toBe("Heard on lantern.")
  const sent = await service.client.send({ to: String(stage.person.id), channel: stage.key, text: "By hand." })
  expect(sent.messages).toHaveLength(1)
  expect((await stage.answered(2))[1]!.text).toBe("By hand.")
  const { items } = await service.client.looks([{ part: "text", text: "**Ahoy**" }])
  expect(items.map((look) => look.title)).toContain("Lantern")
  const { lines } = await service.client.checkChannel(stage.key)
  expect(lines.filter((line) => line.mark === "wrong")).toEqual([])
  await service.stop()
  rmSync(join(root, folder), { recursive: true })
}, 90_000)
