import { mkdtempSync, rmSync } from "node:fs"
import { tmpdir } from "node:os"
import { join } from "node:path"
import type { BrowserContext, Page } from "playwright-core"
import { atEnd, executes, outside } from "./harness.ts"

/** A browser of its own, with what went wrong in its pages. */
export interface Browsing {
  browser: BrowserContext
  page: Page
  faults: string[]
}

/** @param hosts names that stand for this machine, as if it were elsewhere */
export async function startBrowser(hosts: string[] = []): Promise<Browsing> {
  executes("console")
  const { chromium } = await outside<typeof import("playwright-core")>("playwright-core")
  const profile = mkdtempSync(join(tmpdir(), "wobbet-browser-"))
  const browser = await chromium.launchPersistentContext(profile, {
    executablePath: "/usr/bin/chromium",
    args: [
      "--no-sandbox",
      "--disable-gpu",
      // A page lives for moments here: what is not called is not compiled, and nothing is drawn in a process of its own.
      "--in-process-gpu",
      "--js-flags=--max-lazy",
      "--disable-quic",
      "--disable-background-networking",
      "--disable-component-update",
      "--disable-sync",
      ...(hosts.length > 0 ? [`--host-resolver-rules=${hosts.map((host) => `MAP ${host} 127.0.0.1`).join(",")}`] : []),
    ],
    viewport: { width: 1280, height: 800 },
  })
  atEnd(async () => {
    await browser.close()
    rmSync(profile, { recursive: true, force: true })
  })
  const faults: string[] = []
  const page = await newPage(browser, faults)
  return { browser, page, faults }
}

export async function newPage(browser: BrowserContext, faults: string[]): Promise<Page> {
  const page = await browser.newPage()
  page.on("pageerror", (error) => faults.push(error.message))
  page.setDefaultTimeout(10_000)
  return page
}

export async function signIn(page: Page, address: string, token: string): Promise<void> {
  await page.goto(address)
  await page.getByLabel("Token").fill(token)
  await page.getByRole("button", { name: "Sign in" }).click()
  await page.getByRole("navigation", { name: "Pages" }).waitFor()
}
