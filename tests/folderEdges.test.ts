import { execFileSync } from "node:child_process"
import { mkdirSync, readFileSync, realpathSync, symlinkSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { BotFolderReading } from "../src/engine/handlers/botFolder.ts"
import { readBotFolder } from "../src/engine/handlers/botFolder.ts"
import { endAll, placeFor, run, Stage, startService, startStandin, tempFolder, writeFiles } from "./support/harness.ts"

afterAll(endAll)

const sdk = join(import.meta.dirname, "../dist/sdk.js")
const secret = "0123456789abcdef-the-seal-key"
const bot = "bot: tern\nroutes: [{ name: hi, when: { phrase: hi }, handler: hi }]\n"
const says = (value: string, ...imports: string[]) => `${imports.join("\n")}\nexport default () => String(${value})\n`

/** A bot folder in a workspace, and beside it what whoever runs the service keeps for himself. */
function scene(files: { [path: string]: string } = {}) {
  const top = realpathSync(tempFolder({ "home/seal-key": secret, "home/token": secret, "other/x.txt": secret }))
  const folder = join(top, "work/bots/tern")
  mkdirSync(folder, { recursive: true })
  writeFiles(folder, { "bot.yaml": bot, "handlers/hi.ts": says('"hi"'), ...files })
  const read = (roots: string[] = []): Promise<BotFolderReading> =>
    readBotFolder(folder, { sdk, home: join(top, "home"), roots })
  return { top, folder, home: join(top, "home"), read }
}

/** Nothing of the secret is in what came of it, and where it was refused the file is named, with a remedy. */
async function refuses(read: Promise<BotFolderReading>): Promise<string> {
  const reading = await read
  expect(JSON.stringify(reading)).not.toContain("0123456789abcdef")
  if (!("faults" in reading)) throw new Error("it was taken")
  expect(reading.faults[0]!.remedy).toBeTruthy()
  return `${reading.faults[0]!.file}: ${reading.faults[0]!.says}`
}

describe("nothing outside a bot's folder gets into its release", () => {
  test.each(["text", "json", "bytes"])("an import of another file as %s", async (type) => {
    const { home, folder, read } = scene()
    writeFiles(folder, { "handlers/hi.ts": says("k", `import k from "${home}/seal-key" with { type: "${type}" }`) })
    expect(await refuses(read())).toContain("seal-key: it lies outside the bot's folder")
  })

  test.each([
    ["by a path that climbs", "../../../../home/token", ""],
    ["by a link within the folder", "./kept", "handlers/kept"],
    ["by a package that is a link", "kept/token", "node_modules/kept"],
  ])("an import %s", async (_how, from, link) => {
    const { home, folder, read } = scene()
    writeFiles(folder, { "handlers/hi.ts": says("k", `import k from "${from}" with { type: "text" }`) })
    mkdirSync(join(folder, "node_modules"))
    if (link) symlinkSync(link.startsWith("node_modules") ? home : join(home, "token"), join(folder, link))
    expect(await refuses(read())).toContain("it lies outside the bot's folder")
  })

  test("an import from the files of a package in the folder", async () => {
    const { home, folder, read } = scene({
      "handlers/hi.ts": says("k", 'import { k } from "kept"'),
      "node_modules/kept/package.json": '{ "name": "kept", "main": "./index.js" }',
    })
    writeFiles(folder, {
      "node_modules/kept/index.js": `export { default as k } from "${home}/seal-key" with { type: "text" }`,
    })
    expect(await refuses(read())).toContain("it lies outside the bot's folder")
  })

  test.each([
    ["texts/here.yaml", "seal-key"],
    ["profiles/mine.yaml", "seal-key"],
    ["rules/place.yaml", "seal-key"],
    ["holidays.ics", "seal-key"],
    ["hours/holidays.ics", "seal-key"],
    ["state.yaml", "seal-key"],
    ["handlers/hi.js", "seal-key"],
    ["tsconfig.json", "seal-key"],
    ["package.json", "seal-key"],
    ["bot.yaml", "seal-key"],
  ])("a link in the place of %s", async (path, kept) => {
    const { home, folder, read } = scene()
    execFileSync("rm", [
      "-f",
      join(folder, path),
      ...(path === "handlers/hi.js" ? [join(folder, "handlers/hi.ts")] : []),
    ])
    mkdirSync(join(folder, path, ".."), { recursive: true })
    symlinkSync(join(home, kept), join(folder, path))
    const reading = await read()
    expect(JSON.stringify(reading)).not.toContain("0123456789abcdef")
    // The bundler passes over settings it cannot read; all else is refused, with the file.
    if (!/^(tsconfig|package)/.test(path)) expect(await refuses(read())).toMatch(/: it lies outside the bot's folder/)
  })

  test("a folder that is a link, a pipe, a device, and a file without an end", async () => {
    const folders = [scene(), scene(), scene(), scene()] as const
    symlinkSync(join(folders[0].top, "other"), join(folders[0].folder, "texts"))
    writeFileSync(join(folders[0].top, "other/mine.yaml"), `a: ${secret}`)
    expect(await refuses(folders[0].read())).toContain("outside")
    mkdirSync(join(folders[1].folder, "texts"))
    execFileSync("mkfifo", [join(folders[1].folder, "texts/here.yaml")])
    expect(await refuses(folders[1].read())).toContain("no file, but a folder, a device or a pipe")
    mkdirSync(join(folders[2].folder, "texts"))
    symlinkSync("/dev/zero", join(folders[2].folder, "texts/here.yaml"))
    expect(await refuses(folders[2].read(["/dev"]))).toContain("no file, but a folder, a device or a pipe")
    mkdirSync(join(folders[3].folder, "texts"))
    // A file of the kernel's says that it is empty, and is not.
    symlinkSync("/proc/kallsyms", join(folders[3].folder, "texts/here.yaml"))
    expect(await refuses(folders[3].read(["/proc"]))).toMatch(/bytes/)
  })

  test("settings that quote what they cannot read", async () => {
    const { folder, home, read } = scene()
    writeFiles(folder, {
      "tsconfig.json": `{ "extends": "${home}/seal-key" }`,
      "handlers/hi.ts": says("k", 'import k from "kept"'),
    })
    mkdirSync(join(folder, "node_modules/kept"), { recursive: true })
    symlinkSync(join(home, "seal-key"), join(folder, "node_modules/kept/package.json"))
    await refuses(read())
  })
})

describe("what a workspace is made of goes on working", () => {
  test("packages beside the folder and above it, and those that are linked there", async () => {
    const { top, folder, read } = scene({
      "handlers/hi.ts": says(
        "a + b + c",
        'import a from "near"',
        'import b from "hoisted"',
        'import c from "@tern/linked"',
      ),
    })
    writeFiles(folder, {
      "node_modules/near/package.json": '{ "name": "near", "type": "module", "main": "./index.js" }',
      "node_modules/near/index.js": "export default 'near'",
    })
    writeFiles(join(top, "work"), {
      "node_modules/hoisted/package.json": '{ "name": "hoisted", "type": "module", "main": "./index.js" }',
      "node_modules/hoisted/index.js": "export default 'above'",
      "packages/linked/package.json": '{ "name": "@tern/linked", "type": "module", "main": "./index.js" }',
      "packages/linked/index.js": "export { default } from './more.js'",
      "packages/linked/more.js": "export default 'linked'",
      "node_modules/@tern/.keep": "",
    })
    symlinkSync("../../packages/linked", join(top, "work/node_modules/@tern/linked"))
    const reading = await read()
    expect(reading).toMatchObject({ ready: { bundle: expect.stringMatching(/near[^]*above[^]*linked/) as unknown } })
  })

  test("a link that is no package of the workspace is none, whatever it is called", async () => {
    const { top, folder, read } = scene({
      "handlers/hi.ts": says("k", 'import k from "kept/x.txt" with { type: "text" }'),
    })
    mkdirSync(join(top, "work/node_modules"), { recursive: true })
    symlinkSync(join(top, "other"), join(top, "work/node_modules/kept"))
    writeFileSync(join(top, "other/package.json"), '{ "name": "kept" }')
    expect(await refuses(read())).toContain("it lies outside the bot's folder")
    expect(folder).toContain("tern")
  })

  test("a root that whoever runs the service names", async () => {
    const { top, read } = scene({ "handlers/hi.ts": says("x", 'import x from "../../../../other/shared.ts"') })
    writeFileSync(join(top, "other/shared.ts"), "export default 'shared'")
    expect(await refuses(read())).toContain("shared.ts: it lies outside the bot's folder")
    expect(await read([join(top, "other")])).toMatchObject({
      ready: { bundle: expect.stringContaining("shared") as unknown },
    })
    // What the service keeps for itself is read under no name.
    const kept = scene()
    writeFiles(kept.folder, { "handlers/hi.ts": says("k", `import k from "${kept.home}/token" with { type: "text" }`) })
    expect(await refuses(kept.read([kept.top]))).toContain("it lies outside the bot's folder")
  })
})

test("what the service keeps is not read where its data directory lies in the folder, or the folder in it", async () => {
  const take = (from: string) => says("k", `import k from "${from}" with { type: "text" }`)
  const around = scene({ "data/seal-key": secret, "handlers/hi.ts": take("../data/seal-key") })
  const inFolder = { sdk, home: join(around.folder, "data"), roots: [] }
  expect(await refuses(readBotFolder(around.folder, inFolder))).toContain("it lies outside the bot's folder")
  const { top, home } = scene()
  writeFiles(home, { "bot/bot.yaml": bot, "bot/handlers/hi.ts": says('"hi"') })
  expect(await readBotFolder(join(home, "bot"), { sdk, home, roots: [] })).toHaveProperty("ready")
  writeFiles(home, { "bot/handlers/hi.ts": take("../../seal-key") })
  expect(await refuses(readBotFolder(join(home, "bot"), { sdk, home, roots: [top] }))).toContain("outside")
  writeFiles(home, { "bot.yaml": bot })
  expect(await refuses(readBotFolder(home, { sdk, home, roots: [] }))).toContain("outside")
})

test("a service whose folder is refused goes on with the release before, and says so", async () => {
  const standin = await startStandin()
  const place = await placeFor({ "bot.yaml": bot, "handlers/hi.ts": says('"hi"') })
  const outside = tempFolder({ "more.ts": "export default 'more'" })
  const first = await startService(place)
  await first.stop()
  writeFiles(place.bot, { "handlers/hi.ts": says("more", `import more from "${outside}/more.ts"`) })
  const second = await startService(place)
  const { faults } = await second.client.bot()
  expect(faults[0]).toMatchObject({ says: "it lies outside the bot's folder" })
  expect(faults[0]!.remedy).toContain("WOBBET_BOT_ROOTS")
  const stage = await Stage.set(second, standin, { gather: 0 })
  await stage.say("hi")
  expect((await stage.answered(1))[0]!.text).toBe("hi")
  await second.stop()
  const named = await run(["bot", "check", place.bot], { WOBBET_BOT_ROOTS: outside })
  expect(named.err + named.out).not.toContain("outside")
  expect((await run(["bot", "check", place.bot], {})).code).toBe(1)
  expect(readFileSync(join(outside, "more.ts"), "utf8")).toContain("more")
}, 60_000)
