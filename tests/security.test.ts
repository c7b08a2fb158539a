import { statSync } from "node:fs"
import { createServer, request } from "node:http"
import { connect } from "node:net"
import { join } from "node:path"
import type { Service, Standin } from "./support/harness.ts"
import { Client } from "../src/client/client.ts"
import {
  atEnd,
  endAll,
  eventually,
  freePort,
  pause,
  query,
  Stage,
  startService,
  startStandin,
  tempFolder,
} from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

/** Attacks on what strangers, readers and handlers can touch; each succeeded against an earlier version. */
let service: Service
let standin: Standin
let stage: Stage
let owner: Client

beforeAll(async () => {
  standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin)
  owner = service.client
}, 60_000)
afterAll(endAll)

const ask = (path: string, options: RequestInit & { token?: string } = {}) =>
  fetch(`${service.address}${path}`, {
    redirect: "manual",
    ...options,
    headers: { ...(options.token ? { authorization: `Bearer ${options.token}` } : {}), ...options.headers },
  })
const post = (path: string, body: object, options: Parameters<typeof ask>[1] = {}) =>
  ask(path, {
    method: "POST",
    body: JSON.stringify(body),
    ...options,
    headers: { "content-type": "application/json", ...options.headers },
  })

async function signIn(token = service.token, headers: { [name: string]: string } = {}) {
  const answer = await post("/api/v1/session", { token }, { headers })
  const cookie = answer.headers.get("set-cookie") ?? ""
  const { csrf } = (await answer.json()) as { csrf: string }
  return { answer, cookie: cookie.split(";")[0]!, whole: cookie, csrf }
}

describe("a token for fetching calls", () => {
  let token: string
  beforeAll(async () => {
    token = (await owner.makeToken("fetcher", "bring", stage.key)).token
  })

  test.each([
    ["a cookie", { "set-cookie": "wobbet_session=stolen" }],
    ["a redirect", { location: "https://elsewhere.example" }],
    ["a page", { "content-type": "text/html" }],
    ["a page as XML", { "content-type": "application/xhtml+xml" }],
    ["a policy of its own", { "content-security-policy": "default-src *" }],
  ])("cannot set %s on the console's origin", async (_name, headers) => {
    const answer = await post(
      `/api/v1/bring/${stage.key}/answers`,
      { id: "itk_1", status: 200, headers, body: "x" },
      { token },
    )
    expect([answer.status, ((await answer.json()) as { field: string }).field]).toEqual([
      400,
      expect.stringMatching(/^headers/) as unknown,
    ])
  })

  test("answers within what the kinds themselves answer, and in a sandbox", async () => {
    await stage.say("say quiet")
    await stage.answered(1)
    const fetcher = new Client(service.address, token)
    await fetcher.fetchCalls(stage.key, 0)
    const said = stage.say("say brought")
    const { items } = await fetcher.fetchCalls(stage.key, 20)
    await fetcher.answerCall(stage.key, {
      id: items[0]!.id,
      status: 200,
      headers: { "content-type": "application/json" },
      body: "{}",
    })
    await said
    await fetcher.stopFetching(stage.key, true)
    const page = await ask(`/in/${stage.key}`)
    expect(page.headers.get("content-security-policy")).toBe("sandbox")
    expect(page.headers.get("x-content-type-options")).toBe("nosniff")
    const refused = await post(`/in/${stage.key}`, {})
    expect([refused.status, refused.headers.get("content-security-policy")]).toEqual([401, "sandbox"])
  })

  test("begins nothing by GET, which any page can make a browser do", async () => {
    const answer = await ask(`/api/v1/bring/${stage.key}/calls?wait=0`, { token })
    expect([answer.status, answer.headers.get("allow")]).toEqual([405, "POST"])
    expect((await owner.channel(stage.key)).bringing).toBeUndefined()
  })
})

describe("a session's cookie", () => {
  const change = (headers: { [name: string]: string }) => post(`/api/v1/channels/${stage.key}/pause`, {}, { headers })

  test("comes with no change from another site's page, whatever else comes along", async () => {
    const { cookie, csrf } = await signIn()
    const statuses = await Promise.all(
      [
        { cookie },
        { cookie, authorization: "Basic eDp4" },
        { cookie, authorization: "Bearer wrong" },
        { cookie, "x-csrf": csrf, origin: "https://elsewhere.example" },
        { cookie, "x-csrf": csrf, origin: "null" },
        { cookie, "x-csrf": csrf, "sec-fetch-site": "cross-site" },
      ].map((headers) => change(headers as unknown as { [name: string]: string }).then((answer) => answer.status)),
    )
    expect(statuses).toEqual([403, 401, 401, 403, 403, 403])
    expect((await owner.channel(stage.key)).state).toBe("on")
    const own = await change({ cookie, "x-csrf": csrf, origin: service.address })
    expect(own.status).toBe(200)
    await owner.resumeChannel(stage.key)
  })

  test("is not opened from another site's page", async () => {
    const answer = await post(
      "/api/v1/session",
      { token: service.token },
      { headers: { origin: "https://elsewhere.example" } },
    )
    expect([answer.status, answer.headers.get("set-cookie")]).toEqual([403, null])
  })

  test("is a new one at each sign-in, ends at sign-out with its streams, and is listed", async () => {
    const first = await signIn()
    const again = await signIn(service.token, { cookie: first.cookie })
    expect(again.cookie).not.toBe(first.cookie)
    expect((await ask("/api/v1/session", { headers: { cookie: first.cookie } })).status).toBe(401)
    const stream = await ask("/api/v1/live", { headers: { cookie: again.cookie } })
    const listed = (await owner.sessions()).items
    expect(listed[0]).toMatchObject({ name: "local", role: "owner", address: "127.0.0.1" })
    await ask("/api/v1/session", { method: "DELETE", headers: { cookie: again.cookie, "x-csrf": again.csrf } })
    await stream.text()
    expect((await ask("/api/v1/session", { headers: { cookie: again.cookie } })).status).toBe(401)
  })

  test("ends when an owner ends it, and when it was not used for a day", async () => {
    const one = await signIn()
    await owner.endSession((await owner.sessions()).items[0]!.id)
    expect((await ask("/api/v1/session", { headers: { cookie: one.cookie } })).status).toBe(401)
    const other = await signIn()
    await query(service.env.DATABASE_URL!, "UPDATE sessions SET seen_at = now() - interval '25 hours'")
    expect((await ask("/api/v1/session", { headers: { cookie: other.cookie } })).status).toBe(401)
  })

  test("under https is for this host and https alone", async () => {
    const port = await freePort()
    const own = await startService({ port, env: { WOBBET_PUBLIC_URL: "https://bots.example" } })
    const answer = await new Promise<{ [name: string]: unknown }>((done) => {
      const asking = request(
        {
          hostname: "127.0.0.1",
          port,
          path: "/api/v1/session",
          method: "POST",
          headers: { host: "bots.example", "content-type": "application/json" },
        },
        (got) => (got.resume(), done(got.headers)),
      )
      asking.end(JSON.stringify({ token: own.token }))
    })
    expect(String(answer["set-cookie"])).toMatch(
      /^__Host-wobbet_session=\S+; Max-Age=\d+; Path=\/; HttpOnly; Secure; SameSite=Lax$/,
    )
    expect(answer["strict-transport-security"]).toBe("max-age=31536000")
    await own.stop()
  }, 30_000)

  test("a one-time sign-in is spent by a page of ours, never by following a link", async () => {
    expect((await ask("/signin?once=made-up")).headers.get("set-cookie")).toBeNull()
    const answer = await post("/api/v1/session", { once: "made-up" })
    expect([answer.status, ((await answer.json()) as { field: string }).field]).toEqual([401, "once"])
  })
})

describe("tokens", () => {
  test("are some bytes long: no more of a stranger's sign-in is read", async () => {
    const answer = await post("/api/v1/session", { token: "x".repeat(10_000) })
    expect([answer.status, ((await answer.json()) as { field: string }).field]).toEqual([413, "body"])
  })

  test("are named in plain characters, since their names are printed to terminals", async () => {
    await expect(owner.makeToken("\u001b[2J", "reader")).rejects.toMatchObject({ status: 400, field: "name" })
  })

  test("have names of their own, expire, are listed with their use, and let nobody in once revoked", async () => {
    const { token } = await owner.makeToken("lent", "reader")
    await expect(owner.makeToken("lent", "owner")).rejects.toThrow('There is a token "lent" already')
    const lent = new Client(service.address, token)
    await lent.session()
    const stream = await ask("/api/v1/live", { token })
    const shown = (await owner.tokens()).items.find((one) => one.name === "lent")!
    expect(shown).toMatchObject({ role: "reader", madeBy: "local", usedAt: expect.any(String) as unknown })
    expect(JSON.stringify(await owner.tokens())).not.toContain(token)
    await owner.revokeToken("lent")
    await expect(lent.session()).rejects.toThrow("needs a token")
    await stream.text()
    // The name is free again.
    const brief = await owner.makeToken("lent", "reader", undefined, 1 / 86_400)
    const visitor = new Client(service.address, brief.token)
    await visitor.session()
    await pause(1200)
    await expect(visitor.session()).rejects.toThrow("needs a token")
  })

  test("that are guessed are counted by address, logged and on record; the right one still lets in", async () => {
    const own = await startService()
    const client = new Client(own.address, own.token)
    await client.session()
    const guess = () =>
      fetch(`${own.address}/api/v1/messages`, { headers: { authorization: "Bearer wob_guess" } }).then((answer) => [
        answer.status,
        answer.headers.get("retry-after") !== null,
        answer.headers.get("www-authenticate"),
      ])
    expect(await guess()).toEqual([401, false, 'Bearer realm="Wobbet"'])
    for (let n = 0; n < 25; n++) await guess()
    expect(await guess()).toEqual([429, true, null])
    const signing = await fetch(`${own.address}/api/v1/session`, {
      method: "POST",
      headers: { "content-type": "application/json" },
      body: '{"token":"wob_guess"}',
    })
    expect(signing.status).toBe(429)
    // Who was let in before is not locked out by a stranger behind the same proxy.
    expect((await client.session()).name).toBe("local")
    const { items } = await client.audit({ did: "a token that is not known was refused" })
    expect(items).toHaveLength(1)
    expect(items[0]).toMatchObject({ who: "(unknown)", address: "127.0.0.1" })
    expect(own.said()).toContain("a token that is not known was refused")
    await own.stop()
  }, 30_000)

  test("the audit says who did what from where, and only grows", async () => {
    await owner.pauseChannel(stage.key)
    await owner.resumeChannel(stage.key)
    const { items } = await owner.audit({ limit: 2 })
    expect(items.map((one) => one.did)).toEqual(["channel resumed", "channel paused"])
    expect(items[0]).toMatchObject({
      who: "local",
      by: expect.stringMatching(/^tok_/) as unknown,
      address: "127.0.0.1",
    })
    const database = service.env.DATABASE_URL!
    await expect(query(database, "DELETE FROM audit")).rejects.toThrow("the audit only grows")
    await expect(query(database, "UPDATE audit SET who = 'nobody'")).rejects.toThrow("the audit only grows")
    await expect(query(database, "TRUNCATE audit")).rejects.toThrow("the audit only grows")
    const reader = new Client(service.address, (await owner.makeToken("curious", "reader")).token)
    await expect(reader.audit()).rejects.toThrow("it takes owner")
  })
})

describe("a channel's keys", () => {
  test("do not move to another host with a setting: they are asked for again", async () => {
    const asked: string[] = []
    const trap = createServer((incoming, answer) => {
      asked.push(incoming.url ?? "")
      answer.end("{}")
    })
    const port = await freePort()
    await new Promise<void>((done) => trap.listen(port, "127.0.0.1", done))
    atEnd(() => void trap.close())
    const elsewhere = `http://127.0.0.1:${port}`
    await expect(owner.changeChannel(stage.key, { settings: { apiBase: elsewhere } })).rejects.toMatchObject({
      status: 400,
      field: "secrets.token",
    })
    await expect(
      owner.changeChannel(stage.key, { settings: { apiBase: `${standin.address.replace("//", "//x@")}` } }),
    ).rejects.toThrow("must not contain a name")
    await expect(owner.changeChannel(stage.key, { settings: { keyHosts: elsewhere } })).rejects.toMatchObject({
      status: 400,
    })
    await owner.checkChannel(stage.key)
    expect(asked).toEqual([])
  })

  test("that a provider gives back in another form are masked on record", async () => {
    const token = "7700900077:made/up+secret"
    const echo = createServer((incoming, answer) => {
      const given = decodeURIComponent(incoming.url!.split("/")[1]!.replace(/^bot/, ""))
      const forms = [
        given,
        encodeURIComponent(given),
        Buffer.from(`user:${given}`).toString("base64"),
        Buffer.from(given).toString("hex"),
      ]
      answer.statusCode = 400
      answer.end(JSON.stringify({ ok: false, error_code: 400, description: `bad: ${forms.join(" ")}` }))
    })
    const port = await freePort()
    await new Promise<void>((done) => echo.listen(port, "127.0.0.1", done))
    atEnd(() => void echo.close())
    await owner.addChannel({
      kind: "telegram",
      key: "echoed",
      settings: { apiBase: `http://127.0.0.1:${port}` },
      secrets: { token: token.replace(/[/+]/g, "_") },
    })
    const { messages } = await owner.send({ to: "4711", channel: "echoed", text: "hello" })
    const passage = await eventually(async () => {
      const found = await owner.passage(messages[0]!)
      return JSON.stringify(found).includes("bad:") ? found : undefined
    }, "the provider's answer on record")
    const secret = token.replace(/[/+]/g, "_")
    const kept = JSON.stringify(passage)
    for (const form of [secret, encodeURIComponent(secret), Buffer.from(secret).toString("hex")])
      expect(kept).not.toContain(form)
    expect(kept).not.toContain(Buffer.from(`user:${secret}`).toString("base64").slice(8, -4))
    // Nor does it come back where the provider does not let our address go.
    const { stillCalls } = await owner.removeChannel("echoed", "drop")
    expect(stillCalls).toContain("bad:")
    expect(stillCalls).not.toContain(secret)
  })

  test("that calls are proven by can be replaced without losing one", async () => {
    const key = "replaced"
    await owner.addChannel({
      kind: "telegram",
      key,
      settings: { apiBase: standin.address },
      secrets: { token: "1:made-up-token", hookSecret: "first-word" },
    })
    const call = (word: string) =>
      post(`/in/${key}`, { update_id: 1 }, { headers: { "x-telegram-bot-api-secret-token": word } }).then(
        (answer) => answer.status,
      )
    expect(await call("first-word")).toBe(200)
    const changed = await owner.changeChannel(key, { secrets: { hookSecret: "second-word" }, keepFormer: true })
    expect(changed.formerSecrets).toEqual(["hookSecret"])
    expect([await call("first-word"), await call("second-word"), await call("third-word")]).toEqual([200, 200, 401])
    const [last] = (await owner.passages({ channel: key, genuine: true, limit: 2 })).items.slice(-1)
    expect((await owner.passage(last!.id)).intake!.verdict).toMatchObject({
      by: "secret header, under the former hookSecret",
    })
    await owner.changeChannel(key, { dropFormer: true })
    expect([await call("first-word"), await call("second-word")]).toEqual([401, 200])
  })
})

describe("a channel", () => {
  test("is removed only once nothing waits on it, or what waits is dropped and says so", async () => {
    const other = await Stage.set(service, standin)
    await other.say("say hi")
    await other.answered(1)
    await owner.pauseChannel(other.key)
    await other.say("say later")
    await eventually(async () => (await owner.channelWaiting(other.key)).turns === 1, "a message to wait")
    await expect(owner.removeChannel(other.key)).rejects.toThrow("1 message for a turn, 0 replies to be sent")
    expect(await owner.removeChannel(other.key, "drop")).toEqual({ turns: 1, replies: 0, parked: 0 })
    await expect(owner.channel(other.key)).rejects.toThrow("There is no channel")
    expect((await post(`/in/${other.key}`, {})).status).toBe(404)
    const [last] = await other.messages({ limit: 1 })
    expect(last!.status).toBe("dropped")
  })

  test("and a state are changed only as they were seen", async () => {
    const { tag } = await owner.channel(stage.key)
    const answer = await ask(`/api/v1/channels/${stage.key}`, { token: service.token })
    expect(answer.headers.get("etag")).toBe(`"${tag}"`)
    await owner.changeChannel(stage.key, { settings: { perSecond: 25 } }, `"${tag}"`)
    await expect(owner.changeChannel(stage.key, { settings: { perSecond: 5 } }, `"${tag}"`)).rejects.toMatchObject({
      status: 412,
      field: "If-Match",
    })
    const before = (await stage.answers()).length
    await stage.say("count")
    await stage.answered(before + 1)
    const { id } = (await owner.conversations({ channel: stage.key })).items[0]!
    const seen = (await ask(`/api/v1/conversations/${id}`, { token: service.token })).headers.get("etag")!
    await stage.say("count")
    await stage.answered(before + 2)
    const reset = () =>
      post(`/api/v1/conversations/${id}/reset`, {}, { token: service.token, headers: { "if-match": seen } })
    expect((await reset()).status).toBe(412)
    expect((await owner.conversation(id)).state).toEqual({ n: 2 })
  })
})

describe("every answer", () => {
  test.each([
    ["/", "text/html", "default-src 'self'"],
    ["/index.html", "text/html", "default-src 'self'"],
    ["/channels/quay", "text/html", "default-src 'self'"],
    ["/api/openapi.json", "application/json", "default-src 'none'"],
    ["/api/v1/channels", "application/problem+json", "default-src 'none'"],
  ])("at %s says what may be made of it", async (path, type, policy) => {
    const answer = await ask(path)
    const { headers } = answer
    expect(headers.get("content-type")).toContain(type)
    expect(headers.get("content-security-policy")).toContain(policy)
    expect(headers.get("content-security-policy")).toContain("frame-ancestors 'none'")
    expect(headers.get("x-content-type-options")).toBe("nosniff")
    expect(headers.get("cache-control")).toMatch(/no-(store|cache)/)
    expect(headers.get("strict-transport-security")).toBeNull()
  })

  test.each([
    ["GET", "/health/nothing", 404],
    ["GET", "/metrics/nothing", 404],
    ["GET", "/assets/nothing.js", 404],
    ["GET", "/api/nothing", 404],
    ["GET", "/favicon.png", 404],
    ["DELETE", "/api/v1/channels", 405],
    ["POST", "/api/openapi.json", 405],
    ["PUT", "/health/live", 405],
    ["GET", "/api/v1/looks", 405],
  ])("%s %s is a problem, and no page", async (method, path, status) => {
    const answer = await ask(path, { method })
    expect([answer.status, answer.headers.get("content-type")]).toEqual([
      status,
      expect.stringContaining("problem+json") as unknown,
    ])
    expect(answer.headers.get("allow") !== null).toBe(status === 405)
  })

  test.each([
    ["no HTTP", "hello\r\n\r\n", 400],
    ["headers without an end", `GET / HTTP/1.1\r\nhost: x\r\nx: ${"y".repeat(20_000)}\r\n\r\n`, 431],
    ["no address", "GET /%zz HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n", 400],
  ])("to %s is a problem too", async (_name, sent, status) => {
    const { hostname, port } = new URL(service.address)
    const answer = await new Promise<string>((done) => {
      let got = ""
      const socket = connect(Number(port), hostname, () => socket.write(sent))
      socket.on("data", (chunk) => (got += String(chunk)))
      socket.on("close", () => done(got))
    })
    expect(answer).toContain(`HTTP/1.1 ${status} `)
    expect(answer).toContain("application/problem+json")
  })

  test("to a HEAD ends, of the live stream too", async () => {
    const answer = await ask("/api/v1/live", { method: "HEAD", token: service.token })
    expect([answer.status, answer.headers.get("content-type")]).toEqual([200, "text/event-stream"])
  })

  test("about an inlet tells nothing that its address does not hold", async () => {
    expect(await (await ask(`/in/${stage.key}`)).text()).not.toContain("telegram")
  })
})

describe("what the service needs", () => {
  test("its role in the database owns its own, and may do nothing else on the server", async () => {
    const database = service.env.DATABASE_URL!
    const [role] = await query<{ [able: string]: unknown }>(
      database,
      "SELECT rolsuper, rolcreaterole, rolcreatedb, rolreplication, rolbypassrls FROM pg_roles WHERE rolname = current_user",
    )
    expect(Object.values(role!)).toEqual([false, false, false, false, false])
    for (const attempt of [
      "CREATE ROLE other SUPERUSER",
      "ALTER ROLE wobbet_service SUPERUSER",
      "CREATE DATABASE other",
      "COPY (SELECT 1) TO PROGRAM 'id'",
      "SELECT pg_read_file('/etc/passwd')",
      "ALTER SYSTEM SET fsync = off",
    ])
      await expect(query(database, attempt)).rejects.toThrow(/permission denied|must be|only/)
    await expect(query(database.replace(/\/t_\w+/, "/postgres"), "SELECT 1")).rejects.toThrow("permission denied")
  })

  test("its files are for itself alone", () => {
    const mode = (name: string) => statSync(join(service.home, name)).mode & 0o777
    expect(mode("token").toString(8)).toBe("600")
    // As root, the handlers' user passes through it; nobody else does.
    expect(mode("releases") & 0o067).toBe(0)
  })

  test("a disk that is nearly full is told, and is not filled with what people send", async () => {
    const own = await startService({ bot: tempFolder(quayBot), env: { WOBBET_LEAST_DISK: "999999999" } })
    const there = await Stage.set(own, standin)
    const ready = (await (await fetch(`${own.address}/health/ready`)).json()) as { ready: boolean; disk: object }
    expect(ready).toMatchObject({ ready: true, disk: { nearlyFull: true, free: expect.any(Number) as unknown } })
    await there.send({ photo: "quay" })
    await there.answered(1)
    await eventually(async () => own.said().includes("the disk is nearly full"), "the warning")
    expect(await query(own.env.DATABASE_URL!, "SELECT 1 FROM media")).toEqual([])
    await own.stop()
  }, 60_000)

  test("a channel's pictures are kept up to its limit of the day", async () => {
    await owner.changeChannel(stage.key, { settings: { mediaPerDay: 0.000001 } })
    const before = (await stage.answers()).length
    await stage.send({ photo: "one" })
    await stage.answered(before + 1)
    await eventually(
      async () =>
        (await query(service.env.DATABASE_URL!, "SELECT 1 FROM message_media WHERE state = 'kept'")).length > 0,
      "the first to be kept",
    )
    await stage.send({ photo: "two" })
    const [late] = await eventually(async () => {
      const found = await query<{ why: string }>(
        service.env.DATABASE_URL!,
        "SELECT why FROM message_media WHERE state = 'failed'",
      )
      return found.length > 0 ? found : undefined
    }, "the second to be refused")
    expect(late!.why).toContain("mediaPerDay")
  }, 60_000)
})

test("copying all conversations misses none that was there when it began, whoever speaks meanwhile", async () => {
  const own = await startService({ bot: tempFolder(quayBot) })
  const there = await Stage.set(own, standin)
  await own.client.changeChannel(there.key, { secrets: { hookSecret: "agreed-word" } })
  let update = 1
  const speak = (person: number) =>
    fetch(`${own.address}/in/${there.key}`, {
      method: "POST",
      headers: { "content-type": "application/json", "x-telegram-bot-api-secret-token": "agreed-word" },
      body: JSON.stringify({
        update_id: update++,
        message: {
          message_id: update,
          date: Math.floor(Date.now() / 1000),
          chat: { id: person, type: "private" },
          from: { id: person, is_bot: false, first_name: `Person ${person}` },
          text: "hello",
        },
      }),
    })
  const people = Array.from({ length: 60 }, (_, n) => 5000 + n)
  for (const person of people) await speak(person)
  const copied = new Set<string>()
  for (let cursor: string | undefined; ;) {
    const page = await own.client.conversations({ order: "begun", limit: 7, ...(cursor ? { cursor } : {}) })
    page.items.forEach((one) => copied.add(one.address))
    if (page.next === null) break
    cursor = page.next
    // The ones that are still to come speak, and would be first in the list of those last spoken in.
    for (const person of people.slice(-20)) await speak(person)
  }
  expect(people.filter((person) => !copied.has(String(person)))).toEqual([])
  await expect(own.client.conversations({ cursor: "nonsense" })).rejects.toMatchObject({ status: 400, field: "cursor" })
  await own.stop()
}, 60_000)
