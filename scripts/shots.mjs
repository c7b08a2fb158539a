// Pictures of every page, from the running demo, into a folder: node scripts/shots.mjs [folder] [name …]
import { createHmac } from "node:crypto"
import { mkdirSync, mkdtempSync, readFileSync, rmSync } from "node:fs"
import { tmpdir } from "node:os"
import { join } from "node:path"
import { chromium } from "playwright-core"
import { findChromium } from "./setup.mjs"

const [folder = "docs/screenshots", ...only] = process.argv.slice(2)
const base = process.env.WOBBET_URL ?? "http://127.0.0.1:4180"
const token = readFileSync(join(process.env.WOBBET_HOME ?? ".wobbet", "token"), "utf8").trim()
const get = (path) =>
  fetch(`${base}/api/v1${path}`, { headers: { authorization: `Bearer ${token}` } }).then((answer) => answer.json())

const firstOf = async (path) => (await get(path)).items[0]
const noor = await firstOf("/conversations?text=Noor")
const ines = await firstOf("/people?channel=quay-telegram&text=In%C3%AAs")
const forged = await firstOf("/passages?genuine=false")
const unmatched = (await get("/notices")).items.find((one) => one.unmatched > 0)
/** A call of a gateway nobody has described, for the page where its shape is learned. */
const bridgeBody = JSON.stringify({
  event: "incoming",
  payload: {
    ref: "hb-2041",
    author: { number: "447700900612", name: "Ewa Nowak" },
    said: "Next boat to Holm Island?",
    at: 1795467000,
  },
})
/** How a message is sent, as its documentation would show it. */
const bridgeExample = `curl https://bridge.example/v1/out -H "Authorization: Bearer YOUR_API_KEY" \\
  -H "Content-Type: application/json" -d '{"number":"447700900612","body":"Hello there"}'`
const bridgeHeaders = {
  "content-type": "application/json",
  "x-bridge-signature": createHmac("sha256", "holm-bridge-secret").update(bridgeBody).digest("hex"),
}
if (only.length === 0 || only.includes("channel-learn")) {
  const headers = { authorization: `Bearer ${token}`, "content-type": "application/json" }
  const body = JSON.stringify({ kind: "custom", key: "holm-bridge", secrets: { signingSecret: "holm-bridge-secret" } })
  await fetch(`${base}/api/v1/channels`, { method: "POST", headers, body })
}
const pages = {
  conversations: `/conversations/${noor?.id}`,
  people: `/people/${ines?.contact}`,
  passages: "/passages",
  routes: "/routes",
  "passage-forged": `/passages/${forged?.id}`,
  channels: "/channels",
  "channel-learn": "/channels/holm-bridge",
  "channel-try": "/channels/quay-telegram/try",
  elsewhere: "/elsewhere/baggage",
  notices: `/notices/${unmatched?.id}`,
  parked: "/parked",
  looks: "/looks",
  access: "/access",
}

mkdirSync(folder, { recursive: true })
const profile = mkdtempSync(join(tmpdir(), "wobbet-shots-"))
const context = await chromium.launchPersistentContext(profile, {
  executablePath: findChromium(),
  args: [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
  ],
  viewport: { width: Number(process.env.WIDTH ?? 1280), height: Number(process.env.HEIGHT ?? 800) },
  colorScheme: process.env.DARK ? "dark" : "light",
})
try {
  const page = await context.newPage()
  page.on("pageerror", (error) => console.error("page error:", error.message))
  await page.goto(`${base}/`)
  await page.getByRole("heading", { name: "Sign in to Wobbet" }).waitFor()
  await page.getByLabel("Token").fill(token)
  await page.getByRole("button", { name: "Sign in" }).click()
  await page.getByRole("navigation").waitFor()
  for (const [name, path] of Object.entries(pages)) {
    if (only.length > 0 && !only.includes(name)) continue
    await page.goto(base + path)
    await page.locator("h1").first().waitFor()
    await page.waitForTimeout(700)
    if (name === "channel-learn") {
      const learn = page.getByRole("button", { name: "Learn from one call" })
      if (await learn.isVisible()) await learn.click()
      await page.waitForTimeout(600)
      await fetch(`${base}/in/holm-bridge`, { method: "POST", headers: bridgeHeaders, body: bridgeBody })
      await page.getByText("How it is answered").waitFor()
      await page.getByLabel(/example request/).fill(bridgeExample)
      await page.getByLabel("The secret apiKey").waitFor()
      await page.waitForTimeout(400)
    }
    if (name === "channel-try") {
      await page.getByRole("button", { name: "Call it" }).click()
      await page.waitForTimeout(600)
    }
    if (name === "notices") {
      await page.getByLabel("The event's type").fill("boat.late")
      await page.getByLabel("Its data, as JSON").fill('{ "boat": "Petrel", "minutes": 10 }')
      await page.getByRole("button", { name: "Show it" }).click()
      await page.getByText("would be told").waitFor()
    }
    await page.screenshot({ path: join(folder, `${name}.png`) })
    console.log(`${name}.png`)
  }
} finally {
  await context.close()
  rmSync(profile, { recursive: true, force: true })
}
