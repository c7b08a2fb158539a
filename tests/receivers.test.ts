import { readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import type { Service } from "./support/harness.ts"
import { endAll, eventually, pause, placeFor, query, run, startService, tempFolder } from "./support/harness.ts"
import type { Came } from "./support/gateway.ts"
import { startGateway } from "./support/gateway.ts"
import { quayBot } from "./support/quayBot.ts"

/** What is said goes to whom it is for, and nowhere where nothing says whom. */
let where: Awaited<ReturnType<typeof placeFor>>
let service: Service
beforeAll(async () => {
  where = await placeFor(quayBot)
  service = await startService(where)
}, 60_000)
afterAll(endAll)

const word = "a-word-of-the-gateway"
const bring = (key: string, body: object) =>
  fetch(`${service.address}/in/${key}?word=${word}`, {
    method: "POST",
    headers: { "content-type": "application/json" },
    body: JSON.stringify(body),
  }).then(({ status }) => status)
const says = (chat: string, text: string, id: string) => ({ id, chat: { id: chat }, text, sender: { name: "Ines" } })

/** Ids as gateways make them: what the samples show, and one of another conversation. */
const forms: [form: string, shown: string, other: string][] = [
  ["a word", "chatA", "chatB"],
  ["a short number", "42", "77"],
  ["words", "ferry-crew", "harbour-desk"],
  ["letters in both cases", "QmV0dHk", "SW5lcw"],
  ["base64", "SW5lczpiZXR0eQ==", "QmV0dHk6aW5lcw=="],
  ["dotted", "crew.tern.point", "desk.holm.island"],
  ["a UUID", "0b9f3a52-6c1d-4e0f-9a77-3f2c5d1e8b64", "1b9f3a52-6c1d-4e0f-9a77-3f2c5d1e8b64"],
  ["a telephone number", "447700900123", "447700900124"],
]

test.each(forms)(
  "a learned gateway answers in the conversation that wrote, whose id is %s",
  async (form, shown, other) => {
    const { address, came } = await startGateway()
    const key = `gw-${form.replaceAll(/\W+/g, "-").toLowerCase()}`
    const folder = tempFolder()
    const sample = join(folder, "sample.http")
    const request = join(folder, "send.txt")
    const example = JSON.stringify({ text: "Hello there", chat: { id: shown } })
    writeFileSync(
      sample,
      `POST /hook?word=${word} HTTP/1.1\nContent-Type: application/json\n\n${JSON.stringify(says(shown, "say hello", "m-1"))}`,
    )
    writeFileSync(
      request,
      `curl -X POST ${address}/v1/chats/${encodeURIComponent(shown)}/messages -H "Authorization: Bearer key-0123456789" -H "Content-Type: application/json" -d '${example}'`,
    )
    await run(["channel", "add", "custom", key], service.env)
    const learned = await run(
      ["channel", "learn", key, "--yes", "--sample", sample, "--request", request, "--field", "from=/chat/id"].concat([
        "--secret",
        `sharedWord=${word}`,
        "--secret",
        "apiKey=key-0123456789",
      ]),
      service.env,
    )
    expect([learned.code, learned.err]).toEqual([0, ""])
    expect(await bring(key, says(other, "say where am i", "m-2"))).toBe(200)
    const sent = await eventually(async () => came.find(({ method }) => method === "POST"), "the answer")
    expect(decodeURIComponent(sent.url)).toBe(`/v1/chats/${other}/messages`)
    // Where the same stands in two places, both are whom it is for.
    expect(JSON.parse(sent.body)).toEqual({ text: "you said where am i", chat: { id: other } })
  },
)

const profile = (name: string, address: string, more = "") => `
profile: ${name}
title: a gateway
addresses: names
secrets:
  sharedWord: { says: "a word it repeats" }
inbound:
  body: json
  verify: [{ scheme: word, secret: sharedWord, query: word }]
  message: { id: /id, from: /chat/id, text: /text }
outbound:${more}
  address: "{apiBase}${address}"
  body: json
  send: { text: "{text}" }
`

test("a profile that names no receiver is not taken, and says why", async () => {
  const { faults } = await service.client.setProfile(profile("nowhere", "/chats/chatA/messages"))
  expect(faults).toMatchObject([
    { field: "outbound", says: expect.stringContaining("whom it is for"), remedy: expect.stringContaining("to: none") },
  ])
  // A setting is the same for everybody.
  const settings = `${profile("nowhere", "/chats/{chat}/messages")}settings:\n  chat: { says: a chat }\n`
  expect((await service.client.setProfile(settings)).faults).toHaveLength(1)
  expect((await service.client.setProfile(profile("single", "/say", "\n  to: none"))).faults).toEqual([])
  const list = (await service.client.profiles()).items.map(({ name }) => name)
  expect([list.includes("nowhere"), list.includes("single")]).toEqual([false, true])
})

test.each([
  ["corrected", "/chats/{to}/messages", "", "/chats/chatB/messages"],
  ["confirmed", "/chats/chatA/messages", "\n  to: none", "/chats/chatA/messages"],
])(
  "one of an earlier version is held at the upgrade, told, and %s: nothing is lost",
  async (key, address, more, goes) => {
    const { address: apiBase, came } = await startGateway()
    const alerts: Came[] = []
    const { address: alertTo } = await startGateway((call) => (alerts.push(call), {}))
    await service.client.setProfile(profile(key, "/chats/{to}/messages"))
    await service.client.addChannel({
      kind: "custom",
      key,
      settings: { profile: key, apiBase, alertTo },
      secrets: { sharedWord: word },
    })
    await service.stop()
    await query(
      where.database,
      `UPDATE profiles SET source = replace(source, '/chats/{to}/', '/chats/chatA/') WHERE name = '${key}'`,
    )
    // Its file in the folder is as old, and cannot be checked in any more: what was released before goes on.
    const file = join(where.bot, "profiles", `${key}.yaml`)
    writeFileSync(file, readFileSync(file, "utf8").replace("/chats/{to}/", "/chats/chatA/"))
    service = await startService(where)
    const { faults } = await service.client.bot()
    expect(faults.filter((fault) => fault.file.endsWith(`profiles/${key}.yaml`))).toHaveLength(1)
    expect(await service.client.channel(key)).toMatchObject({
      state: "locked out",
      reason: expect.stringContaining("whom it is for"),
      remedy: expect.stringContaining(`wobbet channel resume ${key}`),
    })
    expect(JSON.parse(alerts[0]!.body)).toMatchObject({ data: { says: expect.stringContaining("whom it is for") } })
    expect(await bring(key, says("chatB", "say hello", "m-1"))).toBe(200)
    const check = await run(["channel", "check", key], service.env)
    expect(check.out).toContain("whom it is for")
    const refused = await run(["channel", "resume", key], service.env)
    expect([refused.code, refused.err]).toEqual([1, expect.stringContaining("cannot be resumed")])
    await pause(500)
    expect(came.filter(({ method }) => method === "POST")).toEqual([])
    expect((await service.client.setProfile(profile(key, address, more))).faults).toEqual([])
    expect((await run(["channel", "resume", key], service.env)).err).toBe("")
    const sent = await eventually(async () => came.find(({ method }) => method === "POST"), "what was held")
    expect([sent.url, JSON.parse(sent.body)]).toEqual([goes, { text: "you said hello" }])
    expect(came.filter(({ method }) => method === "POST")).toHaveLength(1)
  },
)
