import { createServer } from "node:http"
import type { Said, Service, Standin } from "./support/harness.ts"
import { endAll, eventually, freePort, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let service: Service
let standin: Standin
let stage: Stage

beforeAll(async () => {
  standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin)
  await stage.say("say hi")
  await stage.answered(1)
})
afterAll(endAll)

const long = "A sentence that tells of boats, quays and tides. ".repeat(60)

// Every part of a reply, sent through the API and taken by the strict stand-in; then what a person sees of it.
test.each<[string, object, (said: Said[]) => void]>([
  [
    "a text in light markup",
    { part: "text", text: "**a** < [b](https://x.example)" },
    ([said]) => expect(said).toMatchObject({ text: "a < b", entities: [{ type: "bold" }, { type: "text_link" }] }),
  ],
  [
    "choices, one of them a link",
    {
      part: "choices",
      text: "Well?",
      choices: [
        { id: "y".repeat(200), label: "Yes" },
        { id: "w", label: "Web", url: "https://x.example/" },
      ],
    },
    ([said]) =>
      expect(said!.reply_markup!.inline_keyboard.flat()).toMatchObject([
        { text: "Yes" },
        { url: "https://x.example/" },
      ]),
  ],
  [
    "a picture from an address",
    { part: "media", kind: "image", url: "https://x.example/a.png", caption: "*Quay*" },
    ([said]) => expect(said).toMatchObject({ caption: "Quay" }),
  ],
  [
    "a file of our own",
    { part: "media", kind: "file", data: "aGVsbG8=", name: "a.txt", mime: "text/plain", caption: "read" },
    ([said]) => expect(said).toMatchObject({ document: { file_id: "upload-a.txt-5" }, caption: "read" }),
  ],
  [
    "a caption over the limit",
    { part: "media", kind: "image", ref: "r", caption: long },
    (said) => expect([said[0]!.caption, said[1]!.text]).toEqual([undefined, long.trim()]),
  ],
  [
    "an album",
    {
      part: "media",
      kind: "image",
      ref: "a",
      with: [
        { kind: "image", ref: "b" },
        { kind: "video", ref: "c" },
      ],
    },
    (said) => expect(said.map((one) => one.media_group_id)).toEqual(["album", "album", "album"]),
  ],
  [
    "an album with an upload",
    { part: "media", kind: "image", ref: "a", with: [{ kind: "image", data: "aGVsbG8=", mime: "image/png" }] },
    (said) => expect(said).toHaveLength(2),
  ],
  [
    "a voice note and a sticker",
    { part: "media", kind: "voice", ref: "v", with: [{ kind: "sticker", ref: "s" }] },
    (said) => expect(said.map((one) => Object.keys(one).at(-1))).toEqual(["voice", "sticker"]),
  ],
  [
    "two cards",
    {
      part: "cards",
      cards: [
        { title: "One", subtitle: "*1*", picture: "https://x.example/p.png", choices: [{ id: "1", label: "Take" }] },
        { title: "Two" },
      ],
    },
    (said) => expect(said.map((one) => one.caption ?? one.text)).toEqual(["One\n1", "Two"]),
  ],
  [
    "a location with its name",
    { part: "location", latitude: 38.7, longitude: -9.1, name: "Tern Point" },
    (said) => expect(said[1]).toMatchObject({ location: { latitude: 38.7, longitude: -9.1 } }),
  ],
  [
    "a contact",
    { part: "contact", name: "Quay desk", phone: "+44 7700 900123" },
    ([said]) => expect(said).toMatchObject({ contact: { first_name: "Quay desk" } }),
  ],
  [
    "a template, by its words",
    { part: "template", name: "t", language: "en", text: "Boat at {{1}}", parameters: ["14:20"] },
    ([said]) => expect(said!.text).toBe("Boat at 14:20"),
  ],
  [
    "a text of three messages",
    { part: "text", text: long.repeat(4) },
    (said) => expect(said.map((one) => one.text).join(" ")).toBe(long.repeat(4).trim()),
  ],
])("%s", async (_name, part, see) => {
  const before = (await stage.answers()).length
  const { messages } = await service.client.send({ to: String(stage.person.id), channel: stage.key, replies: [part] })
  const shown = await eventually(async () => {
    const message = await service.client.message(messages[0]!)
    if (message.status === "parked") throw new Error(message.reason ?? "parked")
    return message.status === "sent" ? message : undefined
  }, "the part to be sent")
  expect(shown.stops!.at(-2)).toMatchObject({ stop: "sent", state: "done" })
  see((await stage.answers()).slice(before))
})

test("what was said can be changed, reacted to and taken back", async () => {
  const { message } = await stage.say("say one more")
  const to = String(stage.person.id)
  const said = await eventually(
    async () => (await stage.answers()).find((answer) => answer.text === "you said one more"),
    "the answer",
  )
  const id = String(said.message_id)
  const send = async (part: object) => {
    const { messages } = await service.client.send({ to, channel: stage.key, replies: [part] })
    await eventually(async () => (await service.client.message(messages[0]!)).status === "sent", JSON.stringify(part))
  }
  await send({ part: "typing" })
  await send({ part: "reaction", to: String(message.message_id), emoji: "👍" })
  await send({ part: "amend", to: id, text: "changed", choices: [{ id: "ok", label: "OK" }] })
  const changed = (await stage.answers()).find((answer) => answer.message_id === said.message_id)!
  expect([changed.text, changed.reply_markup!.inline_keyboard[0]![0]!.text]).toEqual(["changed", "OK"])
  // The same once more changes nothing, and that is as wished.
  await send({ part: "amend", to: id, text: "changed", choices: [{ id: "ok", label: "OK" }] })
  await send({ part: "remove", to: id })
  expect((await stage.answers()).some((answer) => answer.message_id === said.message_id)).toBe(false)
})

test("several parts of one reply come in their order, also when the first must be tried again", async () => {
  const own = await Stage.set(service, standin, { perSecond: 100 })
  await own.say("say hi")
  await own.answered(1)
  await standin.post("faults", { kind: "500", method: "sendMessage", count: 1 })
  const replies = ["one", "two", "three"].map((text) => ({ part: "text", text }))
  await service.client.send({ to: String(own.person.id), channel: own.key, replies })
  expect((await own.answered(4)).slice(1).map((one) => one.text)).toEqual(["one", "two", "three"])
})

test("so many a day, and the rest waits", async () => {
  const own = await Stage.set(service, standin, { perDay: 2 })
  await own.say("say hi")
  await own.answered(1)
  for (const text of ["second", "third"])
    await service.client.send({ to: String(own.person.id), channel: own.key, text })
  await own.answered(2)
  await new Promise((done) => setTimeout(done, 1500))
  expect((await own.messages({ status: "waiting", direction: "out" })).map((message) => message.text)).toEqual([
    "third",
  ])
})

test("an alert goes to an http address as a CloudEvent", async () => {
  const port = await freePort()
  const got: { type: string | undefined; body: { type: string; subject: string; data: { says: string } } }[] = []
  const server = createServer((request, answer) => {
    let body = ""
    request.on("data", (chunk) => (body += String(chunk)))
    request.on("end", () => {
      got.push({ type: request.headers["content-type"], body: JSON.parse(body) as (typeof got)[0]["body"] })
      answer.end()
    })
  }).listen(port, "127.0.0.1")
  const own = await Stage.set(service, standin, { alertTo: `http://127.0.0.1:${port}/alerts` })
  await own.say("say hi")
  await own.answered(1)
  await standin.post("revoke", { bot: own.bot.username })
  await service.client.send({ to: String(own.person.id), channel: own.key, text: "x" })
  const [alert] = await eventually(async () => (got.length > 0 ? got : undefined), "the alert")
  server.close()
  expect(alert).toMatchObject({
    type: "application/cloudevents+json",
    body: {
      type: "wobbet.channel.alert",
      subject: own.key,
      data: { says: expect.stringContaining("locked out") as unknown },
    },
  })
  expect(JSON.stringify(alert)).not.toContain(own.bot.token)
})
