import { spawn } from "node:child_process"
import { readdirSync, readFileSync, rmSync } from "node:fs"
import { join } from "node:path"
import type { Standin } from "./support/harness.ts"
import {
  atEnd,
  endAll,
  eventually,
  root,
  run,
  Stage,
  startProcess,
  startService,
  startStandin,
  tempFolder,
} from "./support/harness.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

const pages = readdirSync(join(root, "docs")).filter((name) => name.endsWith(".md"))

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

const folder = "dist/with-more"
/** What the pages about kinds tell to write, by their paths from the top. */
const written: { [path: string]: string } = {}
let built: Promise<void> | undefined

/** A service with everything that the pages about kinds tell to write. */
const startWithMore = async (bot: string) => {
  built ??= buildWith(folder, written)
  await built
  return startProcess({ bot, program: join(root, folder, "wobbet.js") })
}

beforeAll(() => {
  atEnd(() => rmSync(join(root, folder), { recursive: true, force: true }))
  const [file, line] = blocks("add-a-handler-kind.md").map((block) => block.code)
  const handlers = "src/engine/handlers/registry.ts"
  const before = readFileSync(join(root, handlers), "utf8")
  const after = before.replace(/^const kinds: HandlerKind\[\] = \[[^\]]*\]$/m, line!.trim())
  expect(after).not.toBe(before)
  written[/^\/\/ (\S+)/.exec(file!)![1]!] = file!
  written[handlers] = `import { bell } from "./bell.ts"\n${after}`
  // A kind that speaks as one there is, under a name that nothing else has ever heard.
  written["src/core/channels/lantern/index.ts"] = `import type { ChannelKind } from "../kind.ts"
import { telegram } from "../telegram/index.ts"
export const lantern: ChannelKind = { ...telegram, kind: "lantern", provider: "Lantern" }
`
  const channels = "src/core/channels/registry.ts"
  const known = readFileSync(join(root, channels), "utf8")
  const more = known.replace("= { telegram, ", "= { lantern, telegram, ")
  expect(more).not.toBe(known)
  written[channels] = `import { lantern } from "./lantern/index.ts"\n${more}`
})

test("docs/add-a-handler-kind.md as written: one file and one line make a new kind of handler", async () => {
  const [, , yaml] = blocks("add-a-handler-kind.md").map((block) => block.code)
  const bot = tempFolder({ "bot.yaml": yaml! })
  const service = await startWithMore(bot)
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
}, 90_000)

test("docs/code-layout.md and its picture are as the code is", async () => {
  const child = spawn(process.execPath, ["scripts/layout.mjs", "--check"], { cwd: root })
  let said = ""
  child.stderr.on("data", (chunk) => (said += String(chunk)))
  expect([await new Promise((done) => child.once("close", done)), said]).toEqual([0, ""])
})

test("docs/add-a-kind.md: a folder and a line in the registry are all that a new kind of channel touches", async () => {
  const bot = tempFolder({ "bot.yaml": "bot: watch\nunrouted: { text: 'Heard on {{channel.kind}}.' }\n" })
  const service = await startWithMore(bot)
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
}, 90_000)

test("docs/parts.md lists every part and field, as the kinds and the schema tell", async () => {
  const child = spawn(process.execPath, ["scripts/parts-table.mjs", "--check"], { cwd: root })
  let said = ""
  child.stderr.on("data", (chunk) => (said += String(chunk)))
  expect([await new Promise((done) => child.once("close", done)), said]).toEqual([0, ""])
  // The examples are replies that are taken.
  const parts = blocks("parts.md").map(({ code }) => JSON.parse(code) as object)
  expect(parts).toHaveLength(11)
  const service = await startService()
  const { items } = await service.client.looks(parts)
  expect(items.length).toBeGreaterThan(4)
  // And OpenAPI says of every field what it means.
  const document = (await (await fetch(`${service.address}/api/openapi.json`)).json()) as {
    components: { schemas: { ReplyPart: { oneOf: Shape[] } } }
  }
  const silent = document.components.schemas.ReplyPart.oneOf.flatMap((shape) => withoutWords(shape, ""))
  expect(silent).toEqual([])
  await service.stop()
})

interface Shape {
  description?: string
  properties?: { [name: string]: Shape }
  items?: Shape
  const?: unknown
  enum?: unknown[]
}

/** Fields of a schema that say nothing of what they are. */
function withoutWords(shape: Shape, path: string): string[] {
  return Object.entries(shape.properties ?? {}).flatMap(([name, field]) => [
    ...(field.description || name === "part" ? [] : [`${path}/${name}`]),
    ...withoutWords(field.items ?? field, `${path}/${name}`),
  ])
}

test("docs/write-a-handler.md: the first example runs as printed", async () => {
  const files = Object.fromEntries(
    blocks("write-a-handler.md").flatMap(({ code }) => {
      const path = /^(?:#|\/\/) (\S+\.(?:yaml|ts))\n/.exec(code)?.[1]
      return path ? [[path, code]] : []
    }),
  )
  expect(Object.keys(files)).toEqual(["bot.yaml", "handlers/crossings.ts"])
  const bot = tempFolder(files)
  const checked = await run(["bot", "check", bot])
  expect([checked.code, checked.out]).toEqual([0, expect.stringContaining("my-bot is valid: 3 routes")])
  const service = await startService({ bot })
  const stage = await Stage.set(service, standin)
  await stage.say("/start")
  expect((await stage.answered(1))[0]!.text).toBe("Hello Ines!")
  await stage.say("When is the next boat to Tern Point?")
  const said = await stage.answered(3)
  expect(said.slice(1).map(({ text }) => text)).toEqual(["Next boat to Tern Point: 14:20", "Shall I keep a seat?"])
  await stage.say("what about the weather")
  expect((await stage.answered(4)).at(-1)!.text).toBe("Ask me for the next crossing.")
  const [conversation] = (await service.client.conversations()).items
  expect((await service.client.conversation(conversation!.id)).state).toEqual({ lastAsked: "Tern Point" })
  await service.stop()
}, 60_000)

test("every profile in the docs is valid", async () => {
  const service = await startService()
  const profiles = pages.flatMap((page) =>
    blocks(page).flatMap(({ language, code }) =>
      language === "yaml" && /^profile: /m.test(code) ? [[page, code]] : [],
    ),
  )
  expect(profiles.length).toBeGreaterThan(0)
  for (const [page, source] of profiles)
    expect([page, (await service.client.setProfile(source!, false)).faults]).toEqual([page, []])
  await service.stop()
})

test("every command in README and docs is there, with all its options", async () => {
  const written = new Map<string, string>()
  for (const page of ["../README.md", "../CONTRIBUTING.md", ...pages])
    for (const line of commandsIn(page)) written.set(line, page)
  expect(written.size).toBeGreaterThan(50)
  const help = new Map<string, Promise<string>>()
  const helpOf = (path: string[]) => {
    const key = path.join(" ")
    if (!help.has(key))
      help.set(
        key,
        run([...path, "--help"]).then(({ out }) => out),
      )
    return help.get(key)!
  }
  const unknown: string[] = []
  for (const [line, page] of written) {
    const words = line.split(/\s+/).slice(1)
    const path: string[] = []
    for (const word of words) {
      const here = await helpOf(path)
      if (!new RegExp(`^  ${word}(\\||\\s|$)`, "m").test(here.split("Commands:")[1] ?? "")) break
      path.push(word)
    }
    const options = await helpOf(path)
    if (path.length === 0 && words.length > 0 && !words[0]!.startsWith("-")) unknown.push(`${page}: ${line}`)
    for (const [option] of line.matchAll(/(?<=\s)--[a-z][a-z-]*/g))
      if (!options.includes(option)) unknown.push(`${page}: ${line} (${option})`)
  }
  expect(unknown).toEqual([])
}, 60_000)

/** Commands of ours in a page, in its blocks and in its sentences. */
function commandsIn(page: string): string[] {
  const text = readFileSync(join(root, "docs", page), "utf8").replace(/\\\n\s*/g, "")
  const fenced = [...text.matchAll(/^```\w*\n([\s\S]*?)^```$/gm)].flatMap(([, code]) => code!.split("\n"))
  const inline = [...text.replace(/^```[\s\S]*?^```$/gm, "").matchAll(/`([^`\n]+)`/g)].map(([, code]) => code!)
  return [...fenced, ...inline].flatMap((line) => {
    const command = /^(?:\$ )?(?:[A-Z_]+=\S+ )*(?:bin\/)?(wobbet(?: .*)?)$/.exec(line.trim())?.[1]
    // What follows a comment, another command or a list of words to choose from is no part of it.
    return command ? [command.replace(/\s+(#|\||&&).*$/, "").replace(/ --(?= |$).*/, "")] : []
  })
}
