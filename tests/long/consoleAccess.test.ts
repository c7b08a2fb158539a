import { readFileSync } from "node:fs"
import { createRequire } from "node:module"
import type { AxeResults } from "axe-core"
import type { Page } from "playwright-core"
import type { Browsing } from "../support/browser.ts"
import { signIn, startBrowser } from "../support/browser.ts"
import type { Service, Standin } from "../support/harness.ts"
import { endAll, eventually, Stage, startService, startStandin, tempFolder } from "../support/harness.ts"
import { quayBot } from "../support/quayBot.ts"

const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8")

let service: Service
let standin: Standin
let stage: Stage
let browsing: Browsing
let page: Page

/** Where to go, what is there, and what is done first. */
interface Place {
  name: string
  path: string
  shows: string | RegExp
  first?: (page: Page) => Promise<unknown>
}
let places: Place[]

beforeAll(async () => {
  standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("count")
  await stage.say("pick")
  await stage.answered(1)
  await stage.say("throw")
  await stage.say("nobody knows this")
  await fetch(`${service.address}/in/${stage.key}`, { method: "POST", body: "{}" })
  const parked = await eventually(
    async () => (await service.client.parked({ channel: stage.key })).items[0],
    "the failed turn",
  )
  const forged = await eventually(
    async () => (await service.client.passages({ genuine: false })).items[0],
    "the refused call",
  )
  const good = (await service.client.passages({})).items.at(-1)!
  const [conversation] = (await service.client.conversations()).items
  const [person] = (await service.client.people()).items
  await service.client.addChannel({ kind: "custom", key: "island", secrets: { signingSecret: "island-secret" } })
  await service.client.learn("island")
  const body = '{"ref":"i-1","who":{"number":"447700900444"},"said":"say island"}'
  await fetch(`${service.address}/in/island`, { method: "POST", headers: { "x-word": "island-secret" }, body })
  await service.client.makeToken("Rita", "reader")
  const press = (name: string) => (on: Page) => on.getByRole("button", { name, exact: true }).first().click()
  places = [
    { name: "conversations", path: "/conversations", shows: "Ines" },
    { name: "a conversation", path: `/conversations/${conversation!.id}`, shows: "The bot answers here." },
    {
      name: "forgetting the state",
      path: `/conversations/${conversation!.id}`,
      shows: "is lost for good",
      first: press("Forget the state"),
    },
    { name: "a search", path: "/conversations?q=count", shows: "Messages with these words" },
    {
      name: "editing a state",
      path: `/conversations/${conversation!.id}`,
      shows: "Keep it",
      first: press("Edit the state"),
    },
    { name: "people", path: "/people", shows: "Choose a person." },
    { name: "a person", path: `/people/${person!.contact}`, shows: "may be written to" },
    {
      name: "forgetting a person",
      path: `/people/${person!.contact}`,
      shows: "cannot be undone",
      first: press("Forget"),
    },
    { name: "who waits", path: "/conversations?waiting=", shows: "Nobody waits for a person." },
    { name: "passages", path: "/passages", shows: "the newest first" },
    { name: "a passage", path: `/passages/${good.id}`, shows: "The call as it came" },
    { name: "a failed passage", path: `/passages/${parked.message}`, shows: "Parked since" },
    { name: "a refused passage", path: `/passages/${forged.id}`, shows: "Stopped at “verified”." },
    { name: "channels", path: "/channels", shows: "Both sides agree." },
    {
      name: "a check",
      path: `/channels/${stage.key}`,
      shows: /It is connected|Something on its line/,
      first: press("Check"),
    },
    { name: "a new channel", path: "/channels", shows: "The bot's token", first: press("Add a channel") },
    { name: "learning", path: "/channels/island", shows: "How it is answered" },
    {
      name: "try a call",
      path: `/channels/${stage.key}/try`,
      shows: "The request, with its keys hidden",
      first: press("Call it"),
    },
    { name: "parked", path: "/parked", shows: "The handler" },
    { name: "dropping", path: "/parked", shows: "It is never answered", first: press("Drop") },
    {
      name: "routes",
      path: "/routes?route=throws",
      shows: "What no route took",
      first: async (on: Page) => {
        await on.getByLabel("What a person says").fill("count")
        await on.getByRole("button", { name: "Why not the others" }).click()
      },
    },
    { name: "notices", path: "/notices", shows: "Nothing is said" },
    { name: "how it looks", path: "/looks", shows: "What each kind can show" },
    { name: "access", path: "/access", shows: "Who did what" },
  ]
  browsing = await startBrowser()
  page = browsing.page
}, 120_000)

afterAll(endAll)
afterEach(() => expect(browsing.faults.splice(0)).toEqual([]))

async function go({ path, shows, first }: Place): Promise<void> {
  await page.goto(service.address + path)
  await page.getByRole("navigation", { name: "Pages" }).waitFor()
  await first?.(page)
  await page.getByText(shows).first().waitFor()
}

type Run = { axe: { run: (options: object) => Promise<AxeResults> } }

const wholly = {
  runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"],
  rules: { "label-content-name-mismatch": { enabled: true }, "target-size": { enabled: true } },
}
/** What another theme can change. */
const colours = { runOnly: { type: "rule", values: ["color-contrast", "link-in-text-block"] } }

/** What is wrong on the page as it stands, in both themes, a line each. */
async function findings(name: string): Promise<string[]> {
  const found: string[] = []
  await page.evaluate(axe)
  for (const [theme, options] of [["light", wholly] as const, ["dark", colours] as const]) {
    await page.emulateMedia({ colorScheme: theme, reducedMotion: "reduce" })
    const { violations } = await page.evaluate(
      (asked) => (globalThis as unknown as Run).axe.run({ ...asked, resultTypes: ["violations"], preload: false }),
      options as object,
    )
    for (const { id, nodes } of violations)
      found.push(`${name}, ${theme}: ${id}, ${nodes.length} times, such as ${nodes[0]!.target.join(" ")}`)
    found.push(...(await faintEdges(`${name}, ${theme}`)))
  }
  return found
}

/** Fields and buttons whose edge is not three times as light or dark as what is around them. */
async function faintEdges(name: string): Promise<string[]> {
  const found = await page.evaluate(() => {
    const light = (colour: string) => {
      const [r, g, b] = /(\d+), (\d+), (\d+)/
        .exec(colour)!
        .slice(1, 4)
        .map((part) => {
          const share = Number(part) / 255
          return share <= 0.04045 ? share / 12.92 : ((share + 0.055) / 1.055) ** 2.4
        }) as [number, number, number]
      return 0.2126 * r + 0.7152 * g + 0.0722 * b
    }
    const behind = (element: Element | null): string => {
      for (let at = element; at; at = at.parentElement) {
        const colour = getComputedStyle(at).backgroundColor
        if (!/, 0\)|transparent/.test(colour)) return colour
      }
      return "rgb(255, 255, 255)"
    }
    return [...document.querySelectorAll("input:not([type=checkbox]):not([type=radio]), select, textarea")]
      .filter((field) => {
        const style = getComputedStyle(field)
        const [a, b] = [light(style.borderTopColor), light(behind(field.parentElement))].sort((x, y) => y - x)
        return (a! + 0.05) / (b! + 0.05) < 3 || style.borderTopWidth === "0px"
      })
      .map((field) => field.outerHTML.slice(0, 80))
  })
  return found.map((field) => `${name}: a faint edge, ${field}`)
}

/** What does not fit into the page as it stands, from narrow to wide, a line each. */
async function tooWide(name: string): Promise<string[]> {
  const wide: string[] = []
  for (const width of [360, 768, 1920, 1280]) {
    await page.setViewportSize({ width, height: 800 })
    const over = await page.evaluate(() => {
      const main = document.querySelector("main")!
      const sideways = Math.max(document.documentElement.scrollWidth - innerWidth, main.scrollWidth - main.clientWidth)
      const cut = [...main.querySelectorAll("button, a, input, select, textarea")]
        .filter((element) => element.closest("[class*=overflow-x]") === null && element.checkVisibility())
        .filter((element) => element.getBoundingClientRect().right > innerWidth + 1)
      return { sideways, cut: cut.map((element) => element.outerHTML.slice(0, 80)) }
    })
    if (over.sideways > 0 || over.cut.length > 0) wide.push(`${name} at ${width}: ${JSON.stringify(over)}`)
  }
  return wide
}

describe("every page", () => {
  const found: string[] = []
  const wide: string[] = []
  const visited: string[] = []

  // Each is gone to once, for all that is asked of it.
  beforeAll(async () => {
    await page.goto(service.address)
    await page.getByLabel("Token").waitFor()
    found.push(...(await findings("sign-in")))
    await signIn(page, service.address, service.token)
    for (const place of places) {
      await go(place)
      found.push(...(await findings(place.name)))
      wide.push(...(await tooWide(place.name)))
      visited.push(place.name)
    }
    await page.getByRole("button", { name: /local/ }).click()
    await page.getByRole("menuitem", { name: "Sign out" }).waitFor()
    found.push(...(await findings("the menu")))
  }, 120_000)

  test("axe finds nothing on any page, in either theme", () => {
    expect(visited).toHaveLength(places.length)
    expect(found).toEqual([])
  })

  test("from 360 to 1920 px no page scrolls sideways, and nothing is cut off", () => {
    expect(visited).toHaveLength(places.length)
    expect(wide).toEqual([])
  })
})

test("every action is reached and done by keyboard alone, and what has the focus is seen", async () => {
  await page.setViewportSize({ width: 1280, height: 800 })
  /** Presses Tab until something has the focus, and says what was passed. */
  const tabTo = async (name: RegExp) => {
    for (let n = 0; n < 120; n++) {
      await page.keyboard.press("Tab")
      const at = await page.evaluate(() => {
        const element = document.activeElement as HTMLElement
        const { outlineStyle, outlineWidth } = getComputedStyle(element)
        const words = element.getAttribute("aria-label") ?? element.innerText ?? ""
        return {
          name: element.tagName,
          words: words || (element as HTMLInputElement).labels?.[0]?.innerText || element.tagName,
          seen: outlineStyle !== "none" && outlineWidth !== "0px",
        }
      })
      // After the last of the page comes the browser's own part, and then the first again.
      if (at.name === "BODY") continue
      if (!at.seen) throw new Error(`nothing shows that the focus is on ${at.words}`)
      if (name.test(at.words)) return
    }
    throw new Error(`${String(name)} is not reached by Tab`)
  }
  const press = (key: string) => page.keyboard.press(key)
  await page.goto(`${service.address}/passages`)
  await page.getByRole("heading", { name: "Passages" }).waitFor()
  // Over the way to the pages.
  await tabTo(/^To the page$/)
  await press("Enter")
  expect(await page.evaluate(() => document.activeElement?.id)).toBe("page")
  await tabTo(/^Stopped$/)
  await press("Enter")
  await page.waitForURL(/view=stopped/)
  // Conversations: choose, answer, forget the state.
  await press("1")
  await page.getByText("Choose a conversation.").waitFor()
  await press("/")
  await page.keyboard.type("Ines")
  await page.waitForURL(/q=Ines/)
  await page.getByRole("link", { name: /Ines/ }).waitFor()
  await tabTo(/Ines/)
  await press("Enter")
  await page.getByLabel(/^Answer by hand/).waitFor()
  await tabTo(/^Answer by hand/)
  await page.keyboard.type("by keyboard")
  await press("Enter")
  await page.getByLabel("Ledger").getByText("by keyboard", { exact: true }).waitFor()
  await tabTo(/^Forget the state$/)
  await press("Enter")
  await page.getByRole("group", { name: "Forget the state" }).waitFor()
  await press("Enter")
  await page.getByRole("group", { name: "Forget the state" }).waitFor({ state: "detached" })
  await tabTo(/^Answer it myself$/)
  await press("Enter")
  await page.getByText("answers here; the bot keeps quiet").waitFor()
  await page.evaluate(() => (document.activeElement as HTMLElement).blur())
  // People: choose, tag, block, which is asked first.
  await press("2")
  await page.getByText("Choose a person.").waitFor()
  await tabTo(/^Ines/)
  await press("Enter")
  await tabTo(/^A tag to add$/)
  await page.keyboard.type("crew")
  await press("Enter")
  await page.getByText("#crew").first().waitFor()
  await tabTo(/^Block$/)
  await press("Enter")
  await page.getByRole("group", { name: "Block" }).waitFor()
  await press("Enter")
  await page.getByText("blocked since").waitFor()
  await tabTo(/^Unblock$/)
  await press("Enter")
  await page.getByText("blocked since").waitFor({ state: "detached" })
  // Parked: drop, asked first.
  await page.evaluate(() => (document.activeElement as HTMLElement).blur())
  // Routes: try a text, open one.
  await press("4")
  await page.getByRole("heading", { name: /^Routes of/ }).waitFor()
  await tabTo(/^What a person says$/)
  await page.keyboard.type("count")
  await page.getByRole("button", { name: "Why not the others" }).waitFor()
  await tabTo(/^1\s*count/)
  await press("Enter")
  await page.waitForURL(/route=count/)
  await page.evaluate(() => (document.activeElement as HTMLElement).blur())
  await press("7")
  await page.getByRole("heading", { name: "Parked" }).waitFor()
  await page.getByRole("button", { name: "Drop" }).waitFor()
  await tabTo(/^Drop$/)
  await press("Enter")
  await page.getByText("It is never answered").waitFor()
  await press("Enter")
  await page.getByText("Dropped.").waitFor()
  // Channels: check, and the form.
  await press("5")
  await page.getByRole("heading", { name: "Channels", level: 1 }).waitFor()
  await tabTo(/^Add a channel$/)
  await press("Enter")
  await page.getByRole("form", { name: "A new channel" }).waitFor()
  await tabTo(/^Cancel$/)
  await press("Enter")
  await page.getByRole("button", { name: "Check" }).first().waitFor()
  await tabTo(/^Check$/)
  await press("Enter")
  await page.getByRole("region", { name: "Is it connected?" }).waitFor()
  // The menu: another theme, and out.
  await tabTo(/^local/)
  await press("Enter")
  await page.getByRole("menuitem", { name: "Dark" }).waitFor()
  await press("ArrowDown")
  await press("ArrowDown")
  await press("ArrowDown")
  await press("Enter")
  await page.waitForFunction(() => document.documentElement.classList.contains("dark"))
}, 60_000)
