import { createHmac } from "node:crypto"
import { readFileSync } from "node:fs"
import { join } from "node:path"
import type { Service } from "./support/harness.ts"
import {
  atEnd,
  endAll,
  eventually,
  inside,
  pause,
  query,
  run,
  startService,
  tempFolder,
  writeFiles,
} from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"
import type { BeaconStandin } from "../src/standins/beacon/server.ts"
import type { BuoyStandin } from "../src/standins/buoy/server.ts"
import type { Shown } from "../src/standins/shared/standin.ts"

const profileOf = (name: string) =>
  readFileSync(join(import.meta.dirname, "../demo/ferry/profiles", `${name}.yaml`), "utf8")

let service: Service
let beacon: BeaconStandin
let buoy: BuoyStandin
const people = [{ id: "ines", name: "Inês" }]

beforeAll(async () => {
  const bot = tempFolder({
    ...quayBot,
    "profiles/harbour-beacon.yaml": profileOf("harbour-beacon"),
    "profiles/patient-beacon.yaml": profileOf("harbour-beacon")
      .replace("profile: harbour-beacon", "profile: patient-beacon")
      .replace("late: api", "late: park")
      .replace(/outbound:[^]*?(?=check:)/, ""),
    "profiles/mail-buoy.yaml": profileOf("mail-buoy"),
  })
  service = await startService({ bot })
  beacon = await (await inside()).startBeacon({ account: "tern-point", word: "lantern", key: "beacon-key-1", people })
  buoy = await (
    await inside()
  ).startBuoy({
    box: "7",
    key: "buoy-key-1",
    number: "+447700900100",
    people: [{ id: "+447700900211", name: "Noor" }],
  })
  await addBeacon("light", "harbour-beacon")
})

afterAll(async () => {
  await beacon?.stop()
  await buoy?.stop()
  await endAll()
})

async function addBeacon(key: string, profile: string): Promise<void> {
  await service.client.addChannel({
    kind: "custom",
    key,
    settings: { profile, apiBase: `${beacon.address}/` },
    secrets: { sharedWord: beacon.world.word, beaconKey: beacon.world.key },
  })
}

const at = (standin: { address: string }) => async (what: string, body: object) => {
  const answer = await fetch(`${standin.address}/standin/${what}`, { method: "POST", body: JSON.stringify(body) })
  return (await answer.json()) as { status: number; body: string; ms: number; error?: string }
}
const seenBy = (standin: { stage: { screen: (of: string) => Shown[] } }, who: string) =>
  standin.stage.screen(who).filter((one) => !one.mine)

async function refused(channel: string, after = "") {
  return eventually(async () => {
    const [last] = (await service.client.passages({ channel, genuine: false, limit: 1 })).items
    return last && last.id > after ? service.client.passage(last.id) : undefined
  }, "the refused call")
}

describe("a gateway with a handshake of its own, answered inside its call", () => {
  const does = (what: string, body: object) => at(beacon)(what, body)

  test("takes the address when its echo comes back, and not with another word", async () => {
    const wrong = await does("hook", { url: `${service.address}/in/light`, word: "lantern " })
    expect(wrong.error).toContain("did not give the echo back: 403")
    const { intake } = await refused("light")
    expect(intake!.verdict).toMatchObject({ near: expect.stringContaining("a space behind our sharedWord") as unknown })
    expect(await does("hook", { url: `${service.address}/in/light`, word: "lantern" })).toEqual({ done: true })
  })

  test("hears the reply inside the call, as XML, and the passage says so", async () => {
    const { status, body, ms } = await does("say", { from: "ines", text: "say fog & <sun> ahead" })
    expect(status).toBe(200)
    expect(body).toMatch(
      /^<call><To>ines<\/To><From>tern-point<\/From><At>\d+<\/At><Text>you said fog &amp; &lt;sun&gt; ahead<\/Text><\/call>$/,
    )
    expect(ms).toBeLessThan(2000)
    expect(seenBy(beacon, "ines").at(-1)).toMatchObject({
      text: "you said fog & <sun> ahead",
      status: "inside the call",
    })
    const said = await eventually(
      async () => (await service.client.messages({ channel: "light", direction: "out", status: "sent" })).items[0],
      "the reply to be on record",
    )
    expect(said).toMatchObject({ text: "you said fog & <sun> ahead", status: "sent" })
  })

  test("a reply that is too late goes by its API, once", async () => {
    const before = seenBy(beacon, "ines").length
    await does("patience", { seconds: 3 })
    const fast = await does("say", { from: "ines", text: "nap" })
    expect(fast.body).toContain("awake")
    // The handler naps for 1.5 s; this gateway is waited for no longer than its profile says.
    await service.client.setProfile(
      profileOf("harbour-beacon")
        .replace("profile: harbour-beacon", "profile: hasty-beacon")
        .replace("within: 2.5", "within: 0.5"),
    )
    await service.client.changeChannel("light", { settings: { profile: "hasty-beacon" } })
    const slow = await does("say", { from: "ines", text: "nap" })
    expect(slow).toMatchObject({ status: 200, body: "" })
    expect(slow.ms).toBeLessThan(1400)
    await eventually(async () => seenBy(beacon, "ines").length === before + 2, "the late reply")
    expect(seenBy(beacon, "ines").at(-1)).toMatchObject({ text: "awake", status: "by the API" })
    await service.client.changeChannel("light", { settings: { profile: "harbour-beacon" } })
  })

  test("a caller whose answer could not be stored is let go at once, not when its patience is over", async () => {
    const database = service.env.DATABASE_URL!
    await query(database, "ALTER TABLE turns ADD CONSTRAINT not_one CHECK (state_after->>'n' IS DISTINCT FROM '1')")
    const { status, body, ms } = await does("say", { from: "ines", text: "count" })
    await query(database, "ALTER TABLE turns DROP CONSTRAINT not_one")
    expect({ status, body }).toEqual({ status: 200, body: "" })
    expect(ms).toBeLessThan(2000)
    const { items } = await service.client.parked({ channel: "light" })
    expect(items[0]!.reason).toContain("could not be stored")
    await service.client.dropParked(items[0]!.id)
  })

  test("without an API, what is too late is parked with the reason, and what nobody answers waits for nothing", async () => {
    await service.client.setProfile(
      profileOf("harbour-beacon")
        .replace("profile: harbour-beacon", "profile: strict-beacon")
        .replace("within: 2.5", "within: 0.4")
        .replace("late: api", "late: park")
        .replace(/outbound:[^]*?(?=check:)/, ""),
    )
    await addBeacon("strict", "strict-beacon")
    await does("hook", { url: `${service.address}/in/strict` })
    expect((await does("say", { from: "ines", text: "nap" })).body).toBe("")
    const parked = await eventually(
      async () => (await service.client.parked({ channel: "strict" })).items[0],
      "the late reply to be parked",
    )
    expect(parked).toMatchObject({
      cause: "too late",
      reason: expect.stringContaining("the gateway waits 0.4 s") as unknown,
      remedy: expect.stringContaining("inline.late: api") as unknown,
    })
    await addBeacon("silent", "patient-beacon")
    await does("hook", { url: `${service.address}/in/silent` })
    const unrouted = await does("say", { from: "ines", text: "nobody answers this" })
    expect(unrouted).toMatchObject({ status: 200, body: "" })
    expect(unrouted.ms).toBeLessThan(1500)
    await does("hook", { url: `${service.address}/in/light` })
  })

  test("the same call twice is answered once", async () => {
    const raw =
      "<call><Id>same-1</Id><From>ines</From><To>tern-point</To><Kind>words</Kind><Text>say once</Text></call>"
    expect((await does("say", { from: "ines", text: "say once", raw })).body).toContain("you said once")
    const again = await does("say", { from: "ines", text: "say once", raw })
    expect(again).toMatchObject({ status: 200, body: "" })
    expect(again.ms).toBeLessThan(1500)
  })

  test("is checked to the end of the line", async () => {
    const { ok, lines } = await service.client.checkChannel("light")
    expect(lines.map((line) => [line.about, line.mark])).toEqual([
      ["keys", "right"],
      ["permissions", "right"],
      ["address on record", "open"],
      ["way in", "right"],
      ["calls", "right"],
      ["account", "right"],
      ["bot", "right"],
    ])
    expect(ok).toBe(true)
  })
})

describe("a gateway that is fetched from its queue", () => {
  const does = (what: string, body: object) => at(buoy)(what, body)
  const noor = "+447700900211"

  test("is answered, each message once, also where one is not removed; statuses come the same way", async () => {
    await service.client.addChannel({
      kind: "custom",
      key: "buoy",
      settings: { profile: "mail-buoy", apiBase: buoy.address, box: "7" },
      secrets: { boxKey: buoy.world.key },
    })
    expect(await service.client.channel("buoy")).toMatchObject({ receives: "polling" })
    await does("push", { kind: "hologram", of: "a seal" })
    await does("say", { from: noor, text: "count" })
    await does("say", { from: noor, text: "count" })
    await eventually(async () => seenBy(buoy, noor).length === 2, "two answers")
    expect(seenBy(buoy, noor).map((one) => one.text)).toEqual(["count 1", "count 2"])
    await eventually(async () => buoy.world.queue.length === 0, "the queue to be empty")
    await eventually(
      async () => (await service.client.messages({ channel: "buoy", status: "delivered" })).items[1],
      "the reports",
    )
    const odd = (await service.client.passages({ channel: "buoy" })).items.find((item) =>
      item.stops[2]!.why?.includes("of a sort"),
    )
    expect(odd).toBeDefined()
  })

  test("what comes again because its removal was lost is not answered again", async () => {
    const before = seenBy(buoy, noor).length
    const content = { kind: "message", id: "again-1", sender: { number: "447700900211" }, text: "count" }
    await does("push", content)
    await does("push", content)
    await eventually(async () => buoy.world.queue.length === 0, "the queue to be empty")
    await pause(500)
    expect(seenBy(buoy, noor).length).toBe(before + 1)
  })

  test("a key that is no longer good stops the channel, and check says which", async () => {
    await service.client.changeChannel("buoy", { secrets: { boxKey: "another" } })
    await eventually(async () => (await service.client.channel("buoy")).state === "locked out", "the lock-out")
    expect((await service.client.checkChannel("buoy")).lines[0]).toMatchObject({ mark: "wrong" })
    await service.client.changeChannel("buoy", { secrets: { boxKey: buoy.world.key } })
    expect(await service.client.checkChannel("buoy")).toMatchObject({ resumed: true })
    await does("unlink", {})
    const { lines } = await service.client.checkChannel("buoy")
    expect(lines.find(({ mark }) => mark === "wrong")).toMatchObject({
      about: "account",
      mark: "wrong",
      says: expect.stringContaining("no longer linked") as unknown,
    })
  })
})

test("a queue whose account is signed out goes on being fetched: the word that all is well lies in it", async () => {
  const { client } = service
  const noor = "+447700900212"
  const push = (content: object) => at(queue)("push", content)
  const stateOf = async () => (await client.channel("pull")).state
  const queue = await (
    await inside()
  ).startBuoy({ box: "7", key: "buoy-key-2", number: "+447700900101", people: [{ id: noor, name: "Noor" }] })
  atEnd(() => void queue.stop())
  const source = profileOf("mail-buoy")
    .replace("profile: mail-buoy", "profile: pull")
    .replace(
      ", state: /state }\nstate:\n  every: 60s",
      " }\nstate:\n  event: { only: { /kind: [account] }, state: /state }",
    )
  expect((await client.setProfile(source)).faults).toEqual([])
  await client.addChannel({
    kind: "custom",
    key: "pull",
    settings: { profile: "pull", apiBase: queue.address, box: "7" },
    secrets: { boxKey: queue.world.key },
  })
  await push({ kind: "account", state: "unlinked" })
  await eventually(async () => (await stateOf()) === "locked out", "the channel to stop")
  await push({ kind: "message", id: "pull-1", sender: { number: "447700900212" }, text: "say one" })
  await eventually(async () => queue.world.queue.length === 0, "the queue to be fetched all the same")
  // Its key works, and nothing says that the account is well: nothing is tried.
  const { ok, resumed, lines } = await client.checkChannel("pull")
  expect([ok, resumed]).toEqual([false, false])
  expect(lines.find(({ mark }) => mark === "wrong")).toMatchObject({
    says: expect.stringContaining("no longer linked"),
  })
  expect(seenBy(queue, noor)).toEqual([])
  await push({ kind: "account", state: "linked" })
  await eventually(async () => seenBy(queue, noor).length === 1, "what waited to be answered", 40)
  expect(await stateOf()).toBe("on")
  // A person who knows better resumes it.
  await push({ kind: "account", state: "unlinked" })
  await eventually(async () => (await stateOf()) === "locked out", "the channel to stop again")
  expect(await client.resumeChannel("pull")).toMatchObject({ state: "on" })
  await client.pauseChannel("pull")
  // A question that is held at the gateway, for two seconds, still takes what comes.
  await pause(5000)
  await push({ kind: "message", id: "pull-2", sender: { number: "447700900212" }, text: "say two" })
  await pause(1500)
  expect(queue.world.queue.length).toBeGreaterThan(0)
}, 90_000)

describe("a gateway nobody has described", () => {
  const secret = "a-secret-of-the-bridge"
  const body = JSON.stringify({
    kind: "in",
    payload: { ref: "x-1", who: { msisdn: "447700900333" }, said: { body: "say learned" }, when: 1763899200 },
  })
  const send = (key: string, text = body) =>
    fetch(`${service.address}/in/${key}`, {
      method: "POST",
      headers: {
        "content-type": "application/json",
        "x-bridge-sig": createHmac("sha256", secret).update(text).digest("hex"),
      },
      body: text,
    })

  test("is learned from one call, by commands alone, to the first answered message", async () => {
    const posted: { body: unknown; auth: string | undefined }[] = []
    const { createServer } = await import("node:http")
    const gate = createServer((request, response) => {
      let text = ""
      request.on("data", (piece: Buffer) => (text += String(piece)))
      request.on("end", () => {
        posted.push({ body: JSON.parse(text), auth: request.headers.authorization })
        response.setHeader("content-type", "application/json")
        response.end('{"ref":"out-1"}')
      })
    })
    await new Promise<void>((done) => gate.listen(0, "127.0.0.1", done))
    const { port } = gate.address() as { port: number }
    const wobbet = (...args: string[]) => run(args, service.env)
    await wobbet("channel", "add", "custom", "bridge")
    const untaught = await send("bridge")
    expect(untaught.status).toBe(401)
    const learning = wobbet(
      ...["channel", "learn", "bridge", "--yes", "--minutes", "1"],
      ...["--secret", `signingSecret=${secret}`, "--secret", "apiKey=key-for-sending"],
      ...["--set", `apiBase=http://127.0.0.1:${port}`, "--bearer", "apiKey"],
      ...["--send-to", "{apiBase}/out", "--send", '{"number":"{to}","words":"{text}"}'],
    )
    await eventually(async () => (await service.client.channel("bridge")).learning !== undefined, "the channel to wait")
    expect((await wobbet("channel", "list")).out).toMatch(/bridge +custom +learning/)
    expect((await send("bridge")).status).toBe(200)
    const { code, out, err } = await learning
    expect({ code, err }).toEqual({ code: 0, err: "" })
    expect(out).toMatch(/\/payload\/who\/msisdn +447700900333 +the sender/)
    expect(out).toMatch(/\/payload\/said\/body +say learned +the text/)
    expect(out).toContain("x-bridge-sig is the HMAC-SHA256 (hex) under signingSecret of the body")
    expect(out).toContain("The profile bridge is written (profiles/bridge.yaml of the bot folder)")
    expect(out).not.toContain(secret)
    await eventually(async () => posted.length === 1, "the first answer")
    expect(posted).toEqual([
      { body: { number: "+447700900333", words: "you said learned" }, auth: "Bearer key-for-sending" },
    ])
    expect((await service.client.channel("bridge")).learning).toBeUndefined()
    expect((await wobbet("profile", "list")).out).toMatch(/bridge +learned from a call/)
    // From now on only what is signed is taken.
    const forged = await fetch(`${service.address}/in/bridge`, {
      method: "POST",
      headers: { "x-bridge-sig": "00" },
      body,
    })
    expect([forged.status, await forged.text()]).toEqual([401, ""])
    gate.close()
  })

  test("waiting ends by itself, is undone on request, and only such channels learn", async () => {
    await service.client.addChannel({ kind: "custom", key: "brief" })
    await service.client.learn("brief", { minutes: 0.01 })
    await eventually(async () => (await service.client.channel("brief")).learning === undefined, "the waiting to end")
    expect((await send("brief")).status).toBe(401)
    await service.client.learn("brief", { minutes: 5 })
    await service.client.stopLearning("brief")
    expect((await send("brief")).status).toBe(401)
    await service.client.learn("brief", { minutes: 5 })
    const check = await fetch(`${service.address}/in/brief?challenge=abc`)
    expect(await check.text()).toBe("abc")
    expect((await service.client.channel("brief")).learning).toBeDefined()
    expect((await send("brief")).status).toBe(200)
    expect((await service.client.learned("brief")).sample!.roles).toMatchObject({ text: "/payload/said/body" })
    await service.client.addChannel({ kind: "telegram", key: "tele", secrets: { token: "123456:AbCdEfGhIjKlMnOp" } })
    await expect(service.client.learn("tele")).rejects.toThrow("has nothing to learn")
  })

  test("nothing is written where nothing proves a call", async () => {
    await service.client.addChannel({ kind: "custom", key: "naked" })
    await service.client.learn("naked", { minutes: 1 })
    await fetch(`${service.address}/in/naked`, {
      method: "POST",
      headers: { "content-type": "application/json" },
      body,
    })
    const sending = { address: "https://x.example", send: { text: "{text}" } }
    await expect(
      service.client.agreeToLearned("naked", {
        name: "naked",
        places: { from: "/payload/who/msisdn", text: "/payload/said/body" },
        sending,
      }),
    ).rejects.toThrow("Nothing in the call proves that it is genuine")
  })
})

test("a profile with faults keeps the bot folder as it was, and bot check tells line and remedy", async () => {
  const folder = tempFolder(quayBot)
  writeFiles(folder, { "profiles/odd.yaml": "profile: odd\ntitle: odd\ninbound:\n  body: jsn\n" })
  const { code, out } = await run(["bot", "check", folder], service.env)
  expect(code).toBe(1)
  expect(out).toContain("odd.yaml:4")
  expect(out).toContain('Was "json" meant?')
  const file = tempFolder({ "odd.yaml": "profile: odd\ntitle: odd\ninbound:\n  body: jsn\n" })
  const checked = await run(["profile", "check", join(file, "odd.yaml")], service.env)
  expect(checked).toMatchObject({
    code: 1,
    out: expect.stringMatching(/odd\.yaml:4 {2}"jsn" is no body[^]*faults; nothing was changed/) as unknown,
  })
})

test("whoever ever spoke can be found and written to by the provider's id", async () => {
  const { items } = await service.client.people({ channel: "light" })
  expect(items).toEqual([
    expect.objectContaining({ address: "ines", conversation: expect.stringMatching(/^cnv_/) as unknown }),
  ])
  const listed = await run(["conversation", "list", "--people", "--channel", "light"], service.env)
  expect(listed.out).toMatch(/ines +light +ines +con_\w+ +cnv_/)
  await service.client.send({ to: "ines", channel: "light", text: "Good evening" })
  await eventually(async () => seenBy(beacon, "ines").at(-1)?.text === "Good evening", "the words by the API")
})
