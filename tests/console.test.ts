import { createHmac } from "node:crypto"
import type { Page } from "playwright-core"
import { startBrowser } from "./support/browser.ts"
import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, Stage, startService, startStandin, tempFolder, writeFiles } from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let service: Service
let standin: Standin
let stage: Stage
let page: Page
let faults: string[]
let folder: string

beforeAll(async () => {
  standin = await startStandin()
  folder = tempFolder(quayBot)
  service = await startService({ bot: folder })
  stage = await Stage.set(service, standin)
  await stage.say("count")
  await stage.answered(1)
  ;({ page, faults } = await startBrowser())
}, 60_000)

afterAll(endAll)

afterEach(() => expect(faults.splice(0)).toEqual([]))

test("a wrong token is told, the right one lets in", async () => {
  await page.goto(service.address)
  await page.getByLabel("Token").fill("wob_wrong")
  await page.getByRole("button", { name: "Sign in" }).click()
  await page.getByText("This token is not known").waitFor()
  const { token } = service.client as unknown as { token: string }
  await page.getByLabel("Token").fill(token)
  await page.getByRole("button", { name: "Sign in" }).click()
  await page.getByText("Choose a conversation.").waitFor()
  await page.getByRole("link", { name: /Ines/ }).click()
  await page.getByRole("heading", { name: "Ines" }).waitFor()
})

test("a conversation is a ledger that grows by itself, with its state beside it", async () => {
  const ledger = page.getByLabel("Ledger")
  await ledger.getByText("count 1", { exact: true }).waitFor()
  await page.getByLabel("What is remembered").getByText('"n": 1').waitFor()
  await stage.say("count")
  await ledger.getByText("count 2", { exact: true }).waitFor()
  await page.getByLabel("What is remembered").getByText('"n": 2').waitFor()
})

test("a person answers by hand, once, with Enter", async () => {
  const before = (await stage.answers()).length
  await page.getByLabel("Answer by hand").fill("I am **here**")
  await page.getByLabel("Answer by hand").press("Enter")
  await page.getByLabel("Ledger").getByText("I am here", { exact: true }).waitFor()
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
  await page.getByText("The whole state").waitFor()
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
  await page.getByText("1 need you").waitFor()
  await page.getByRole("button", { name: "Drop" }).click()
  await page.getByText("It is never answered; it stays on record as dropped.").waitFor()
  await page.getByRole("group", { name: "Drop" }).getByRole("button", { name: "Drop" }).click()
  await page.getByText("local chose to drop").waitFor()
  await page.getByText("1 need you").waitFor({ state: "detached" })
}, 60_000)

test("a message's state is the same word in the ledger, in the list of passages and on its own page", async () => {
  await stage.say("nobody knows this")
  const lost = await eventually(async () => (await stage.messages({ status: "unrouted" }))[0], "the unrouted message")
  const dropped = (await stage.messages({ status: "dropped" }))[0]!
  const reply = (await stage.messages({ direction: "out", status: "sent" }))[0]!
  for (const [message, word] of [
    [lost, "unrouted"],
    [dropped, "dropped"],
    [reply, "sent"],
  ] as const) {
    await page.goto(`${service.address}/conversations/${message.conversation}`)
    const inLedger = page.getByLabel("Ledger").getByRole("link", { name: `Passage of “${message.text}”` })
    await inLedger.last().getByText(word, { exact: true }).last().waitFor()
    if (message.direction === "out") continue
    await page.goto(`${service.address}/passages`)
    await page
      .getByRole("link", { name: new RegExp(`${word}.*Ines.*${message.text}`) })
      .first()
      .waitFor()
    await page.goto(`${service.address}/passages/${message.id}`)
    await page.getByRole("heading", { name: `Passage: ${word}` }).waitFor()
  }
})

test("single asterisks are told for what they are, where the reply is tried", async () => {
  await page.getByRole("link", { name: "How it looks" }).click()
  await page.getByRole("button", { name: "Words" }).click()
  await page.getByText("One asterisk is italic: Holm Island. For bold, write **Holm Island**.").waitFor()
})

test("channels show what the provider has on record, and pause and resume", async () => {
  await page.getByRole("link", { name: "Channels" }).click()
  await page.getByText("Both sides agree.").waitFor()
  await page.getByText(`${service.address}/in/${stage.key}`).first().waitFor()
  await page.getByRole("button", { name: "Pause" }).click()
  await page.getByText("Paused by local").waitFor()
  await page.getByRole("button", { name: "Resume" }).click()
  await page.getByText("Resumed: what waited is handled and sent.").waitFor()
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

test("a bot folder with faults is shown on the page, with file and line, until it is fixed", async () => {
  writeFiles(folder, { "handlers/echo.ts": "export default (\n" })
  await page.getByText("The bot folder has faults.").waitFor()
  await page.getByText(/handlers\/echo\.ts:\d+:\d+/).waitFor()
  writeFiles(folder, { "handlers/echo.ts": quayBot["handlers/echo.ts"]! })
  await page.getByText("The bot folder has faults.").waitFor({ state: "detached" })
})

test("every page works by keyboard, and on a narrow screen without scrolling sideways", async () => {
  await page.keyboard.press("3")
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

describe("connecting", () => {
  beforeAll(() => page.setViewportSize({ width: 1280, height: 800 }))
  const card = (key: string) => page.getByRole("article").filter({ hasText: key })

  test("a check walks the line on the page, to the first thing that is wrong, and its passage is one press away", async () => {
    const guess = () =>
      fetch(`${service.address}/in/${stage.key}`, {
        method: "POST",
        headers: { "x-telegram-bot-api-secret-token": "guessed" },
        body: "{}",
      })
    for (let n = 0; n < 3; n++) await guess()
    await eventually(async () => (await service.client.channel(stage.key)).lastRefused, "the refused call")
    await page.goto(`${service.address}/channels/${stage.key}`)
    await card(stage.key).getByRole("button", { name: "Check" }).click()
    const line = page.getByRole("region", { name: "Is it connected?" })
    await line.getByText("Something on its line is wrong.").waitFor()
    const marks = await line.getByRole("listitem").allInnerTexts()
    expect(marks.map((text) => text.split("\n")[0])).toEqual(
      ["●", "○", "●", "●", "●", "✕", "·", "·"].slice(-marks.length),
    )
    await line.getByRole("link", { name: "The passage of that call" }).click()
    await page.getByText("Stopped at “verified”.").waitFor()
    await page.getByText("most likely hookSecret is a different one").first().waitFor()
  })

  test("a gateway is learned on the page: every page says that it waits, and the sample becomes its first message", async () => {
    await service.client.addChannel({ kind: "custom", key: "island", secrets: { signingSecret: "island-secret" } })
    await page.goto(`${service.address}/channels/island`)
    await page.getByText("has no profile yet").waitFor()
    await page.getByRole("button", { name: "Learn from one call" }).click()
    await page.getByText("Let the gateway send a message to").waitFor()
    await page.goto(`${service.address}/parked`)
    await page.getByRole("status").getByText("waits for a call to learn from").waitFor()
    await page.goto(`${service.address}/channels/island`)
    const body = '{"ref":"i-1","who":{"number":"447700900444"},"said":"say island"}'
    const signature = createHmac("sha256", "island-secret").update(body).digest("hex")
    await fetch(`${service.address}/in/island`, { method: "POST", headers: { "x-island-signature": signature }, body })
    await page.getByText("How it is answered").waitFor()
    await page.setViewportSize({ width: 360, height: 740 })
    expect(await page.evaluate(() => document.documentElement.scrollWidth - innerWidth)).toBeLessThanOrEqual(0)
    await page.setViewportSize({ width: 1280, height: 800 })
    expect(await page.getByLabel("What /said is").inputValue()).toBe("text")
    expect(await page.getByLabel("What /who/number is").inputValue()).toBe("from")
    await page.getByText("is the HMAC-SHA256 (hex) under signingSecret of the body").waitFor()
    await page.getByLabel("The gateway’s address").fill(standin.address)
    await page.getByLabel("The key for sending").fill("island-key")
    await page.getByRole("button", { name: "Agree, and write the profile" }).click()
    await page.getByText("It speaks by a profile").waitFor()
    const said = await eventually(
      async () => (await service.client.messages({ channel: "island", direction: "out" })).items[0],
      "the reply to the sample",
    )
    expect(said).toMatchObject({ text: "you said island" })
    expect(await page.content()).not.toMatch(/island-(secret|key)/)
  })
})
