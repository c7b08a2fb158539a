import type { Page } from "playwright-core"
import type { Browsing } from "./support/browser.ts"
import { newPage, signIn, startBrowser } from "./support/browser.ts"
import type { Service, Standin } from "./support/harness.ts"
import { endAll, eventually, pause, placeFor, Stage, startService, startStandin } from "./support/harness.ts"
import type { Proxy } from "./support/proxy.ts"
import { startProxy } from "./support/proxy.ts"
import { quayBot } from "./support/quayBot.ts"
import { bring, hookSecret, update } from "./support/updates.ts"

let service: Service
let standin: Standin
let stage: Stage
let browsing: Browsing
let page: Page
/** Two people who write, and the conversations with them. */
let ines: string
let other: { chat: number; conversation: string }
let place: Awaited<ReturnType<typeof placeFor>>

beforeAll(async () => {
  standin = await startStandin()
  place = await placeFor(quayBot)
  service = await startService(place)
  stage = await Stage.set(service, standin, { gather: 0, perSecond: 100 })
  await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
  await service.client.connectChannel(stage.key)
  await stage.say("count")
  await stage.answered(1)
  const person = await standin.post<{ id: number }>("people", { first_name: "Tomé" })
  await standin.post("start", { bot: stage.bot.username, from: person.id })
  await sayAs(person.id, "count")
  await stage.answered(1, person.id)
  const { items } = await service.client.conversations()
  ines = items.find((item) => item.address === String(stage.person.id))!.id
  other = { chat: person.id, conversation: items.find((item) => item.address === String(person.id))!.id }
  browsing = await startBrowser(["quay.example", "proxied.example", "reader.example"])
  page = browsing.page
  await signIn(page, service.address, service.token)
}, 60_000)

afterAll(endAll)
afterEach(() => expect(browsing.faults.splice(0)).toEqual([]))

const sayAs = (chat: number, text: string) => bring(service, stage.key, hookSecret, update(chat, text))
const box = (on = page) => on.getByLabel("Answer by hand")
const rows = (on = page) => on.getByRole("region", { name: "Conversations" }).getByRole("link")
const said = (text: string, on = page) => on.getByLabel("Ledger").getByText(text, { exact: true })

describe("an answer by hand", () => {
  test("goes to nobody before a conversation is chosen, and stays with the one that was, whoever writes meanwhile", async () => {
    await page.getByText("Choose a conversation.").waitFor()
    expect(await box().count()).toBe(0)
    await page.goto(`${service.address}/conversations/${ines}`)
    await box().click()
    await page.keyboard.type("I am looking ")
    await sayAs(other.chat, "say hurry")
    await rows().filter({ hasText: "you said hurry" }).waitFor()
    await page.keyboard.type("it up")
    expect(await box().inputValue()).toBe("I am looking it up")
    expect(await page.getByRole("heading", { level: 1 }).innerText()).toBe("Ines")
  })

  test("is kept as a draft for each conversation, over leaving and loading again", async () => {
    await page.goto(`${service.address}/conversations/${other.conversation}`)
    await box().waitFor()
    expect(await box().inputValue()).toBe("")
    await box().fill("for somebody else")
    await page.goto(`${service.address}/passages`)
    await page.goto(`${service.address}/conversations/${ines}`)
    await page.reload()
    await box().waitFor()
    expect(await box().inputValue()).toBe("I am looking it up")
    await rows().filter({ hasText: "hurry" }).click()
    await page.getByLabel(/^Answer by hand to (P\d|Ines|Tomé)/).waitFor()
    await eventually(async () => (await box().inputValue()) === "for somebody else", "the other draft")
    await box().fill("")
  })
})

describe("through a proxy", () => {
  let proxy: Proxy
  let address: string
  let far: Page
  beforeAll(async () => {
    proxy = await startProxy(service.address)
    far = await newPage(browsing.browser, browsing.faults)
    address = proxy.address.replace("127.0.0.1", "proxied.example")
    await signIn(far, address, service.token)
    await far.goto(`${address}/conversations/${ines}`)
    await far.evaluate(() => Object.assign(window, { sameDocument: true }))
  }, 60_000)
  afterAll(() => far.close())

  test("typing while an answer is slow is not erased, and both are said in their order", async () => {
    const before = (await stage.answers()).length
    proxy.now.slow = 1500
    await box(far).fill("first")
    await box(far).press("Enter")
    await far.getByRole("list", { name: "On its way" }).getByText("on its way").waitFor()
    await far.keyboard.type("second")
    await far.keyboard.press("Enter")
    await far.keyboard.type("and a third, not sent yet")
    proxy.now.slow = 0
    const answers = await stage.answered(before + 2)
    expect(answers.slice(before).map((answer) => answer.text)).toEqual(["first", "second"])
    await said("second", far).waitFor()
    expect(await box(far).inputValue()).toBe("and a third, not sent yet")
    await box(far).fill("")
  })

  test("an answer that was lost does not jam the box: sent again, it was said once", async () => {
    const before = (await stage.answers()).length
    proxy.now.loses = (call) => call.method === "POST" && call.url === "/api/v1/messages"
    await box(far).fill("only once")
    await box(far).press("Enter")
    await far.getByText("Perhaps not sent.").waitFor()
    await far.keyboard.type("the next thing")
    proxy.now.loses = () => false
    await far.getByRole("button", { name: "Send again" }).click()
    await far.getByRole("list", { name: "On its way" }).waitFor({ state: "detached" })
    await box(far).press("Enter")
    const answers = await stage.answered(before + 2)
    await pause(500)
    expect((await stage.answers()).length).toBe(before + 2)
    expect(answers.slice(before).map((answer) => answer.text)).toEqual(["only once", "the next thing"])
  })

  test("the page says that it is not live, comes back by itself over a 502, and shows what it missed", async () => {
    await far.getByText("● live", { exact: true }).waitFor()
    proxy.now.down = true
    proxy.cut()
    await far.getByText("Not live").waitFor()
    await stage.say("say during the break")
    await stage.answered(1)
    expect(await said("you said during the break", far).count()).toBe(0)
    // Pressed while the answer is still 502: once it is not, the page may come back, and the button leave, at any moment.
    await far.getByRole("button", { name: "Try now" }).click()
    await far.getByText("Not live").waitFor()
    proxy.now.down = false
    await far.getByText("● live", { exact: true }).waitFor({ timeout: 30_000 })
    await said("you said during the break", far).waitFor()
    expect(await far.evaluate(() => "sameDocument" in window)).toBe(true)
  })

  test("the page outlives a restart of the service, without being loaded again", async () => {
    await box(far).fill("written before the restart")
    await service.stop()
    await far.getByText("Not live").waitFor()
    service = await startService(place)
    await far.getByText("● live", { exact: true }).waitFor({ timeout: 30_000 })
    await sayAs(stage.person.id, "say after the restart")
    await said("you said after the restart", far).waitFor()
    expect(await far.evaluate(() => "sameDocument" in window)).toBe(true)
    expect(await box(far).inputValue()).toBe("written before the restart")
    await box(far).fill("")
  }, 60_000)

  test("a first load asks for each thing once, and in under 150 kB", async () => {
    const asked: string[] = []
    const fresh = await newPage(browsing.browser, browsing.faults)
    fresh.on("request", (request) => asked.push(new URL(request.url()).pathname))
    await fresh.goto(`${address}/conversations/${ines}`)
    await said("first", fresh).waitFor()
    await pause(1000)
    const calls = asked.filter((path) => path.startsWith("/api/"))
    // The conversation's messages, and nothing twice. In its strict mode React runs effects twice only while it is developed.
    expect(calls.filter((path, at) => calls.indexOf(path) !== at)).toEqual([])
    const bytes = await fresh.evaluate(() =>
      (
        [
          ...performance.getEntriesByType("resource"),
          ...performance.getEntriesByType("navigation"),
        ] as PerformanceResourceTiming[]
      )
        .filter((entry) => !entry.name.includes("/api/"))
        .reduce((sum, entry) => sum + entry.encodedBodySize, 0),
    )
    expect(bytes).toBeGreaterThan(50_000)
    expect(bytes).toBeLessThan(150_000)
    await fresh.close()
  })
})

test("over plain http on another host, pages are drawn, answers are sent and texts are copied", async () => {
  const far = await newPage(browsing.browser, browsing.faults)
  const address = service.address.replace("127.0.0.1", "quay.example")
  await signIn(far, address, service.token)
  expect(await far.evaluate(() => isSecureContext)).toBe(false)
  await far.goto(`${address}/conversations/${ines}`)
  const before = (await stage.answers()).length
  await box(far).fill("from elsewhere")
  await box(far).press("Enter")
  expect((await stage.answered(before + 1)).at(-1)!.text).toBe("from elsewhere")
  await far.getByRole("button", { name: "copy the provider's id" }).click()
  await far.getByText("copied").waitFor()
  for (const name of ["Passages", "Channels", "Parked", "How it looks", "Access"]) {
    await far.getByRole("link", { name: new RegExp(`^${name}`) }).click()
    await far.getByRole("heading", { name, level: 1 }).waitFor()
  }
  await far.close()
})

describe("what is read stands still", () => {
  test("in the list of conversations: what is new is counted, and shown on request", async () => {
    await page.goto(`${service.address}/conversations`)
    await rows().first().waitFor()
    await rows().first().hover()
    const before = await rows().allInnerTexts()
    const last = before.findIndex((text) => text.includes("Tomé") || text.includes(String(other.chat)))
    const writes = last === 0 ? stage.person.id : other.chat
    await sayAs(writes, "say I am new")
    await page.getByRole("button", { name: "1 new" }).waitFor()
    const names = async () => (await rows().allInnerTexts()).map((text) => text.split("\n")[0])
    expect(await names()).toEqual(before.map((text) => text.split("\n")[0]))
    // By keyboard: a mouse that leaves the list shows what is new as well.
    await page.getByRole("button", { name: "1 new" }).press("Enter")
    await eventually(async () => (await rows().first().innerText()).includes("I am new"), "the newest on top")
  })

  test("in a ledger that is scrolled up: what comes is counted below, and older messages are reached", async () => {
    for (let n = 0; n < 120; n++) await service.client.send({ to: ines, text: `you said line ${n}` })
    await page.goto(`${service.address}/conversations/${ines}`)
    await said("you said line 119").waitFor()
    const ledger = page.getByLabel("Ledger")
    // Its end is followed until somebody scrolls.
    await page.getByRole("button", { name: "Show older" }).click()
    await said("count 1").waitFor({ state: "attached" })
    await said("you said line 60").scrollIntoViewIfNeeded()
    const top = async () => (await said("you said line 60").boundingBox())!.y
    const before = await top()
    await sayAs(stage.person.id, "say one more")
    await page.getByRole("button", { name: /^\d new/ }).waitFor()
    expect(Math.abs((await top()) - before)).toBeLessThan(2)
    await page.getByRole("button", { name: /^\d new/ }).click()
    await said("you said one more").waitFor()
    const end = await ledger.evaluate((box) => box.scrollHeight - box.scrollTop - box.clientHeight)
    expect(Math.abs(end)).toBeLessThan(60)
  }, 60_000)

  test("back leads to the same place of a list, and filters stand in the address", async () => {
    for (let n = 0; n < 60; n++) await sayAs(other.chat, `nobody knows ${n}`)
    await page.goto(`${service.address}/passages`)
    const list = page.getByRole("main")
    await list.getByRole("link").nth(45).scrollIntoViewIfNeeded()
    const before = await list.evaluate((main) => main.scrollTop)
    expect(before).toBeGreaterThan(300)
    await list.getByRole("link").nth(44).click()
    await page.getByRole("heading", { name: /^Passage:/ }).waitFor()
    expect(await list.evaluate((main) => main.scrollTop)).toBe(0)
    await page.goBack()
    await page.getByRole("heading", { name: "Passages" }).waitFor()
    expect(Math.abs((await list.evaluate((main) => main.scrollTop)) - before)).toBeLessThan(4)
    await page.getByRole("button", { name: "Every call" }).click()
    expect(page.url()).toContain("?view=every")
    await page.reload()
    await page.getByRole("button", { name: "Every call", pressed: true }).waitFor()
    expect(await page.title()).toBe("Passages · Wobbet")
  })
})

test("words that were said are found, and one press opens the conversation there", async () => {
  await page.goto(`${service.address}/conversations`)
  await page.getByRole("searchbox").fill("line 55")
  const found = page.getByRole("region", { name: "Messages with these words" })
  await found.getByRole("link").filter({ hasText: "you said line 55" }).first().click()
  await said("you said line 55").waitFor()
  expect(page.url()).toMatch(/q=line(\+|%20)55/)
  const seen = await said("you said line 55").boundingBox()
  expect(seen!.y).toBeGreaterThan(0)
  expect(seen!.y).toBeLessThan(800)
})

test("a channel is added by a form that asks for what its kind needs, and says what is wrong with it", async () => {
  await page.goto(`${service.address}/channels`)
  await page.getByRole("button", { name: "Add a channel" }).click()
  const form = page.getByRole("form", { name: "A new channel" })
  await form.getByText("The bot's token: digits, a colon and letters.").waitFor()
  await form.getByLabel("Key", { exact: false }).first().fill("by-form")
  await form.getByLabel(/^token/).fill("not a token")
  await form.getByLabel(/^apiBase/).fill(standin.address)
  await form.getByRole("button", { name: "Add the channel" }).click()
  await form.getByText("a bot token is digits, a colon and letters").waitFor()
  expect(await form.getByLabel(/^token/).getAttribute("aria-invalid")).toBe("true")
  const bot = await standin.post<{ token: string }>("bots", { username: "form_bot", name: "By form" })
  await form.getByLabel(/^token/).fill(bot.token)
  await form.getByRole("button", { name: "Add the channel" }).click()
  await page.getByRole("heading", { name: "by-form", level: 1 }).waitFor()
  expect((await service.client.channel("by-form")).settings.apiBase).toBe(standin.address)
  await form.waitFor({ state: "detached" })
  await page.goto(`${service.address}/channels`)
  await page.getByRole("button", { name: "Add a channel" }).click()
  await form.getByRole("combobox", { name: /^Kind/ }).first().selectOption("sms")
  await form.getByText("The account's token, which also signs calls.").waitFor()
})

describe("who may what", () => {
  test("a reader is offered nothing that would be refused", async () => {
    const { token } = await service.client.makeToken("Rita", "reader")
    await stage.say("throw")
    const parked = await eventually(
      async () => (await service.client.parked({ channel: stage.key })).items[0],
      "the failed turn",
    )
    const far = await newPage(browsing.browser, browsing.faults)
    const address = service.address.replace("127.0.0.1", "reader.example")
    await signIn(far, address, token)
    for (const [path, shows] of [
      [`/conversations/${ines}`, "Readers see, and do not answer."],
      ["/parked", "The handler"],
      [`/passages/${parked.message}`, "Parked since"],
      [`/channels/${stage.key}`, "Both sides agree."],
    ] as const) {
      await far.goto(address + path)
      await far.getByText(shows).first().waitFor()
      const refused = /^(Send|Retry|Edit|Drop|Forget|Answer it|Give it|Check|Connect|Pause|Resume|Learn|Add)/
      expect([path, await far.getByRole("button", { name: refused }).count()]).toEqual([path, 0])
    }
    await far.close()
  }, 60_000)

  test("a failed action says so where it was asked for", async () => {
    await page.goto(`${service.address}/parked`)
    const row = page.getByRole("article").first()
    await page.route("**/parked/*/retry", (route) => route.abort())
    await row.getByRole("button", { name: "Retry" }).click()
    await row.getByRole("alert").getByText("The service does not answer.").waitFor()
    await page.unroute("**/parked/*/retry")
    await row.getByRole("button", { name: "Drop" }).click()
    await row.getByText("It is never answered").waitFor()
    await row.getByRole("button", { name: "Not now" }).click()
    expect((await service.client.parked({ channel: stage.key })).items).toHaveLength(1)
  })

  test("a session that ended leads to the sign-in, and from there back to the page with what was written", async () => {
    await page.goto(`${service.address}/conversations/${ines}`)
    await box().fill("half a sentence")
    const [session] = (await service.client.sessions()).items.filter((one) => one.name === "local")
    for (const { id } of (await service.client.sessions()).items) if (session) await service.client.endSession(id)
    await page.getByText("Your session has ended.").waitFor()
    await page.getByLabel("Token").fill(service.token)
    await page.getByRole("button", { name: "Sign in" }).click()
    await page.getByRole("heading", { name: "Ines", level: 1 }).waitFor()
    expect(await box().inputValue()).toBe("half a sentence")
    await box().fill("")
  })
})

test("a fault in one page takes neither the others nor the way to them", async () => {
  await page.route("**/api/v1/conversations/*/messages*", (route) =>
    route.fulfill({ json: { items: [{ id: "msg_x", position: 1, direction: "in" }], next: null } }),
  )
  await page.goto(`${service.address}/conversations/${ines}`)
  await page.getByText("This part of the page could not be drawn.").waitFor()
  await page.unroute("**/api/v1/conversations/*/messages*")
  await page.getByRole("link", { name: "Passages" }).click()
  await page.getByRole("heading", { name: "Passages" }).waitFor()
})

test("assets come compressed, and are asked for once", async () => {
  const html = await (await fetch(service.address)).text()
  const script = /src="(\/assets\/[^"]+)"/.exec(html)![1]!
  const got = await fetch(service.address + script, { headers: { "accept-encoding": "br, gzip" } })
  expect(got.headers.get("content-encoding")).toBe("br")
  expect(got.headers.get("cache-control")).toBe("public, max-age=31536000, immutable")
  const plain = await fetch(service.address + script, { headers: { "accept-encoding": "identity" } })
  expect(plain.headers.get("content-encoding")).toBeNull()
  expect(await plain.text()).toBe(await got.text())
  expect((await fetch(`${service.address}/favicon.svg`)).headers.get("content-type")).toContain("image/svg+xml")
})

test("controls and marks that turn the direction of writing are shown as escapes", async () => {
  await stage.say("say \u001b]0;owned\u0007 pay \u202e001 oruE\u202c end")
  await page.goto(`${service.address}/conversations/${ines}`)
  await said("say \\x1b]0;owned\\x07 pay \\u202e001 oruE\\u202c end").waitFor()
  await page.getByLabel("Ledger").getByRole("link", { name: /owned/ }).first().click()
  await page.getByRole("heading", { name: /^Passage:/ }).waitFor()
  const words = await page.getByRole("main").innerText()
  expect(words.replace(/[\n\t]/g, "")).not.toMatch(/[\p{Cc}\u202a-\u202e]/u)
  expect(words).toContain("\\x1b]0;owned")
})

test("however many conversations there are, all of them are reached by going down the list", async () => {
  await Promise.all(
    Array.from({ length: 8 }, async (_none, line) => {
      for (let n = 0; n < 31; n++) await sayAs(800_000_000 + line * 100 + n, "nobody knows this")
    }),
  )
  const all = new Set<string>()
  for (let cursor: string | undefined | null; cursor !== null;) {
    const { items, next } = await service.client.conversations({ limit: 100, ...(cursor ? { cursor } : {}) })
    items.forEach(({ id }) => all.add(id))
    cursor = next
  }
  expect(all.size).toBeGreaterThan(245)
  await page.goto(`${service.address}/conversations`)
  await rows().first().waitFor()
  const list = page.getByRole("region", { name: "Conversations" }).locator("a[data-row]")
  await eventually(async () => {
    await list.last().scrollIntoViewIfNeeded()
    return (await list.count()) >= all.size
  }, "all of them to be in the list")
  const shown = await list.evaluateAll((links) => links.map((link) => link.getAttribute("href")!.split("/").at(-1)!))
  expect(new Set(shown)).toEqual(all)
  expect(shown).toHaveLength(all.size)
}, 60_000)
