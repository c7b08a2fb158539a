import { mkdtempSync, rmSync } from "node:fs"
import { tmpdir } from "node:os"
import { join } from "node:path"
import type { BrowserContext, Page } from "playwright-core"
import { chromium } from "playwright-core"
import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, Stage, startService, startStandin, tempFolder, writeFiles } from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let service: Service
let standin: Standin
let stage: Stage
let browser: BrowserContext
let page: Page
let folder: string
const profile = mkdtempSync(join(tmpdir(), "wobbet-browser-"))
const faults: string[] = []

beforeAll(async () => {
  standin = await startStandin()
  folder = tempFolder(quayBot)
  service = await startService({ bot: folder })
  stage = await Stage.set(service, standin)
  await stage.say("count")
  await stage.answered(1)
  browser = await chromium.launchPersistentContext(profile, {
    executablePath: "/usr/bin/chromium",
    args: [
      "--no-sandbox",
      "--disable-gpu",
      "--disable-quic",
      "--disable-background-networking",
      "--disable-component-update",
      "--disable-sync",
    ],
    viewport: { width: 1280, height: 800 },
  })
  page = await browser.newPage()
  page.on("pageerror", (error) => faults.push(error.message))
  page.setDefaultTimeout(10_000)
}, 60_000)

afterAll(async () => {
  await browser?.close()
  rmSync(profile, { recursive: true, force: true })
  await endAll()
})

afterEach(() => expect(faults.splice(0)).toEqual([]))

test("a wrong token is told, the right one lets in", async () => {
  await page.goto(service.address)
  await page.getByLabel("Token").fill("wob_wrong")
  await page.getByRole("button", { name: "Sign in" }).click()
  await page.getByText("No such token is known").waitFor()
  const { token } = service.client as unknown as { token: string }
  await page.getByLabel("Token").fill(token)
  await page.getByRole("button", { name: "Sign in" }).click()
  await page.getByRole("heading", { name: "Ines" }).waitFor()
})

test("a conversation is a ledger that grows by itself, with its state beside it", async () => {
  const ledger = page.getByLabel("Ledger")
  await ledger.getByText("count 1").waitFor()
  await page.getByLabel("What is remembered").getByText('"n": 1').waitFor()
  await stage.say("count")
  await ledger.getByText("count 2").waitFor()
  await page.getByLabel("What is remembered").getByText('"n": 2').waitFor()
})

test("a person answers by hand, once, with Enter", async () => {
  const before = (await stage.answers()).length
  await page.getByLabel("Answer by hand").fill("I am **here**")
  await page.getByLabel("Answer by hand").press("Enter")
  await page.getByLabel("Ledger").getByText("I am here").waitFor()
  const answers = await stage.answered(before + 1)
  expect(answers.at(-1)!.text).toBe("I am here")
  expect(answers).toHaveLength(before + 1)
})

test("passages are listed live with their rails, and one shows its call, decision, state and answers", async () => {
  await page.getByRole("link", { name: "Passages" }).click()
  await stage.say("count")
  const row = page.getByRole("link", { name: /answered.*Ines.*count/ }).first()
  await row.getByRole("img", { name: "answered" }).waitFor()
  await row.click()
  await page.getByRole("heading", { name: "Passage: answered" }).waitFor()
  for (const stop of ["received", "verified", "parsed", "routed", "handled", "sent", "delivered"]) {
    await page.getByRole("figure", { name: "The passage" }).getByText(stop, { exact: false }).first().waitFor()
  }
  await page.getByText('the phrase "count"').first().waitFor()
  await page.getByText("State before").waitFor()
  await page.getByText("sendMessage").first().waitFor()
  await page.getByText('"update_id"').waitFor()
})

test("a failed turn breaks the rail with its reason beneath, and can be dropped there", async () => {
  await stage.say("throw")
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the failed turn",
    30,
  )
  await page.goto(`${service.address}/passages/${parked.message}`)
  await page.getByText("Stopped at “handled”.").waitFor()
  await page.getByText("the fog is too thick").first().waitFor()
  await page.getByLabel("1 need you").waitFor()
  await page.getByRole("button", { name: "Drop" }).click()
  await page.getByText("local chose to drop").waitFor()
  await page.getByLabel("1 need you").waitFor({ state: "detached" })
}, 60_000)

test("channels show what the provider has on record, and pause and resume", async () => {
  await page.getByRole("link", { name: "Channels" }).click()
  await page.getByText("Both sides agree.").waitFor()
  await page.getByText(`${service.address}/in/${stage.key}`).first().waitFor()
  await page.getByRole("button", { name: "Pause" }).click()
  await page.getByText("Paused by local").waitFor()
  await page.getByRole("button", { name: "Resume" }).click()
  await page.getByText("It goes on where it stood.").waitFor()
})

test("one reply is shown as each kind of channel will show it, with what was degraded and why", async () => {
  await page.getByRole("link", { name: "How it looks" }).click()
  const on = (name: string) => page.getByRole("article", { name, exact: true })
  for (const name of ["Telegram", "WhatsApp", "Messenger", "Slack"])
    await on(name).getByText("Lighthouse walk", { exact: true }).waitFor()
  await on("SMS").getByText("1. Lighthouse walk").waitFor()
  await on("SMS").getByText("the options are written as numbered lines").waitFor()
  await on("SMS").getByText("1 segment of GSM 03.38").waitFor()
  await page.getByRole("button", { name: "Many options" }).click()
  await on("WhatsApp").getByText("there are too many").waitFor()
  await on("Messenger").getByText("12 December", { exact: true }).waitFor()
  // A single letter outside the alphabet of SMS more than halves what fits.
  await page.getByLabel("What is said, in light markup").fill("Прилив в полдень")
  await on("SMS").getByText("of UCS-2").waitFor()
  await page.getByLabel("What is said, in light markup").fill("")
  await page.getByText("What each kind can show").waitFor()
  await page.getByRole("link", { name: "Channels" }).click()
})

test("a bot folder that does not check is said on the page, with file and line, until it is mended", async () => {
  writeFiles(folder, { "handlers/echo.ts": "export default (\n" })
  await page.getByText("The bot folder does not check.").waitFor()
  await page.getByText(/handlers\/echo\.ts:\d+:\d+/).waitFor()
  writeFiles(folder, { "handlers/echo.ts": quayBot["handlers/echo.ts"]! })
  await page.getByText("The bot folder does not check.").waitFor({ state: "detached" })
})

test("every page works by keyboard, and on a narrow screen without scrolling sideways", async () => {
  await page.keyboard.press("2")
  await page.getByRole("heading", { name: "Passages" }).waitFor()
  await page
    .getByRole("link", { name: /answered/ })
    .first()
    .waitFor()
  await page.keyboard.press("ArrowDown")
  await page.keyboard.press("Enter")
  await page.getByRole("heading", { name: /^Passage:/ }).waitFor()
  await page.setViewportSize({ width: 360, height: 740 })
  const { items } = await service.client.conversations({ channel: stage.key })
  for (const path of [
    "/conversations",
    `/conversations/${items[0]!.id}`,
    "/passages",
    "/channels",
    "/parked",
    "/looks",
    page.url().slice(service.address.length),
  ]) {
    await page.goto(service.address + path)
    await page.getByRole("navigation").waitFor()
    await page.waitForTimeout(300)
    const overflow = await page.evaluate(() => document.documentElement.scrollWidth - innerWidth)
    expect([path, overflow <= 0]).toEqual([path, true])
  }
})
