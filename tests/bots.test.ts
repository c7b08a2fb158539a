import { renameSync } from "node:fs"
import { join } from "node:path"
import type { Standin } from "./support/harness.ts"
import { endAll, eventually, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

test("a bot folder is followed on save; a version with faults leaves the one before in place", async () => {
  const { writeFiles } = await import("./support/harness.ts")
  const folder = tempFolder(quayBot)
  const service = await startService({ bot: folder })
  const stage = await Stage.set(service, standin)
  await stage.say("say one")
  expect((await stage.answered(1))[0]!.text).toBe("you said one")
  const before = (await service.client.bot()).release

  // As many editors save: a new file put in the old one's place.
  writeFiles(folder, {
    "handlers/.echo.new": `import { handler } from "wobbet"\nexport default handler(({ slots }) => "they said " + slots.words)`,
  })
  renameSync(join(folder, "handlers/.echo.new"), join(folder, "handlers/echo.ts"))
  await eventually(async () => (await service.client.bot()).release !== before, "the new release")
  await stage.say("say two")
  expect((await stage.answered(2))[1]!.text).toBe("they said two")

  writeFiles(folder, {
    "handlers/echo.ts": `import { handler } from "wobbet"\n\nexport default handler(({ slots }) => "broken + slots.words)`,
  })
  const broken = await eventually(async () => {
    const bot = await service.client.bot()
    return bot.faults.length > 0 ? bot : undefined
  }, "the fault")
  expect(broken.faults[0]).toMatchObject({
    file: expect.stringContaining("handlers/echo.ts") as unknown,
    line: 3,
    says: expect.stringContaining("Unterminated string") as unknown,
  })
  expect(service.said()).toMatch(/echo\.ts:3:\d+ {2}Unterminated string literal/)
  expect(broken.faults[0]!.remedy).toContain("not closed")
  await stage.say("say three")
  expect((await stage.answered(3))[2]!.text).toBe("they said three")

  writeFiles(folder, {
    "handlers/echo.ts": `export const words = "none"`,
    "bot.yaml": quayBot["bot.yaml"]!.replace("handler: echo", "handler: eco"),
  })
  const two = await eventually(async () => {
    const { faults } = await service.client.bot()
    return faults.length === 2 ? faults : undefined
  }, "both faults")
  expect(two.map((fault) => fault.says)).toEqual(['there is no handler "eco"', "the file has no default export"])

  writeFiles(folder, {
    "handlers/echo.ts": `throw new Error("at load")\nexport default () => "x"`,
    "bot.yaml": quayBot["bot.yaml"]!,
  })
  const loading = await eventually(async () => {
    const { faults } = await service.client.bot()
    return faults[0]?.says.includes("at load") ? faults[0] : undefined
  }, "the fault of loading")
  expect(loading).toMatchObject({ file: expect.stringContaining("handlers/echo.ts") as unknown, line: 1 })
}, 60_000)
