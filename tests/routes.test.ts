import { writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Page } from "playwright-core"
import { signIn, startBrowser } from "./support/browser.ts"
import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, query, run, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"

/** Three routes that are never met, and two pairs that take the same text. */
const routes = `
routes:
  - { name: boat, when: { phrase: "[the] next boat [please]" }, handler: { text: "14:20" } }
  - { name: boat again, when: { phrase: "the next boat" }, handler: { text: "never" } }
  - { name: commands, when: { event: command }, handler: { text: "A command." } }
  - { name: book, when: { command: book, kind: slack }, handler: { text: "never" } }
  - { name: going, when: { phrase: "going to $text{place}" }, handler: { text: "To {{slots.place}}." } }
  - { name: island, when: { phrase: "going to the island [today]" }, handler: { text: "never" } }
  - { name: order, when: { phrase: "order $text{what}" }, handler: { text: "{{slots.what}}" } }
  - { name: please, when: { phrase: "[please] order tea" }, handler: { text: "Tea." } }
  - { name: first tide, when: { phrase: "tide [table] [today]" }, handler: { text: "Low." } }
  - { name: tide, when: { phrase: "[the] tide [tomorrow]" }, handler: { text: "High." } }
  - { name: fails, when: { phrase: "fail" }, handler: fails, tries: 1 }
`
const bot = {
  "bot.yaml": `bot: overlapping\n`,
  "handlers/fails.ts": `export default () => { throw new Error("the quay is flooded") }`,
}

let service: Service
let standin: Standin
let stage: Stage
let page: Page
let faults: string[]
const folder = tempFolder(bot)

beforeAll(async () => {
  ;[service, standin] = await Promise.all([startService({ bot: folder }), startStandin()])
  stage = await Stage.set(service, standin)
  ;({ page, faults } = await startBrowser())
}, 60_000)
afterAll(endAll)

const told = [
  /bot\.yaml:4[:\s].*"boat again" is never met: "boat" before it takes everything it takes, such as "the next boat"/s,
  /bot\.yaml:6[:\s].*"book" is never met: "commands" before it takes everything it takes/s,
  /bot\.yaml:8[:\s].*"island" is never met: "going" before it takes everything it takes, such as "going to the island"/s,
  /bot\.yaml:10[:\s].*"order" and "please" both take "order tea"; "order" gets it/s,
  /bot\.yaml:12[:\s].*"first tide" and "tide" both take "tide"; "first tide" gets it/s,
]

test("routes that are never met and those in conflict are named on save, in the check and on the page", async () => {
  writeFileSync(join(folder, "bot.yaml"), bot["bot.yaml"].trim() + routes)
  await eventually(async () => (await service.client.bot()).notes.length === 5, "the saved folder")
  for (const words of told) expect(service.said()).toMatch(words)
  const checked = await run(["bot", "check", folder], service.env)
  expect(checked.code).toBe(0)
  expect(checked.out).toContain("overlapping is valid: 11 routes")
  for (const words of told) expect(checked.out).toMatch(words)
  const json = await run(["bot", "check", "--json"], service.env)
  expect((JSON.parse(json.out) as { notes: { line: number }[] }).notes.map(({ line }) => line)).toEqual([
    4, 6, 8, 10, 12,
  ])
  await signIn(page, service.address, service.token)
  await page.getByRole("link", { name: "Routes", exact: true }).click()
  const row = (name: RegExp) => page.getByRole("button", { name })
  await row(/boat again.*is never met: "boat" before it/).waitFor()
  await row(/please.*both take "order tea"/).waitFor()
  expect(await page.getByText("is never met:").count()).toBe(3)
  expect(await page.getByText("both take").count()).toBe(2)
})

test("the page counts what each route takes, tries a text while it is typed, and groups what none took", async () => {
  const texts = ["next boat", "tide", "the next boat", "fail", "do you take dogs", "do you take big dogs", "hm"]
  for (const text of texts) await stage.say(text)
  await eventually(async () => (await stage.messages({ status: "unrouted" })).length === 3, "what no route takes")
  await eventually(async () => (await stage.messages({ status: "parked" })).length === 1, "the failure")
  const found = await service.client.routes(7)
  const shown = Object.fromEntries(found.routes.map(({ route, hits, failures }) => [route, [hits, failures]]))
  expect(shown).toMatchObject({ boat: [2, 0], "first tide": [1, 0], tide: [0, 0], fails: [0, 1] })
  expect(found.unrouted).toMatchObject({ hits: 3, share: 0.5 })
  expect(found.routes[0]!.chart.at(-1)).toBe(2)
  // Days that its bars do not divide into whole hours.
  expect((await service.client.routes(5)).routes[0]).toMatchObject({ hits: 2 })
  await page.goto(`${service.address}/routes`)
  await page.getByRole("img", { name: /boat: 2 hits in 7 days/ }).waitFor()
  await page.getByRole("button", { name: /^1\s*boat\s*→ text/ }).click()
  await page.getByRole("link", { name: /the next boat/ }).waitFor()
  await page.getByLabel("What a person says").fill("going to Holm")
  await page.getByText("To Holm.").waitFor()
  await page.getByText("do you take [big] dogs").waitFor()
  await page.getByRole("button", { name: /^“do you take big dogs”/ }).click()
  await page.getByRole("link", { name: /do you take dogs/ }).click()
  await page.getByRole("heading", { name: /Passage/ }).waitFor()
  expect(faults).toEqual([])
})

test("hits are summed up by the hour, and none is lost or counted twice", async () => {
  const sum = async () =>
    (
      await query<{ hits: string; rows: string }>(
        service.env.DATABASE_URL!,
        "SELECT sum(hits) AS hits, count(*) AS rows FROM tally WHERE bot = 'overlapping'",
      )
    )[0]!
  const before = await sum()
  // The chore is due each minute; this makes it due now.
  await query(service.env.DATABASE_URL!, "UPDATE chores SET done_at = NULL WHERE name = 'tally'")
  const after = await eventually(
    async () => {
      const now = await sum()
      return Number(now.rows) < Number(before.rows) ? now : undefined
    },
    "the tally to be summed up",
    90,
  )
  expect(after.hits).toBe(before.hits)
  expect((await service.client.routes(7)).routes[0]).toMatchObject({ route: "boat", hits: 2 })
})
