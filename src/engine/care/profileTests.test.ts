import { readdirSync, readFileSync } from "node:fs"
import { join, resolve } from "node:path"
import { readProfile } from "../../core/gateway/readProfile.ts"
import { profiles } from "../../core/gateway/shipped.ts"
import type { ProfileSample } from "./profileTests.ts"
import { testProfile } from "./profileTests.ts"

const beside = resolve(import.meta.dirname, "../../core/gateway/profiles/samples")

function samplesOf(profile: string): ProfileSample[] {
  return readdirSync(join(beside, profile))
    .filter((name) => name.endsWith(".http"))
    .map((name) => ({
      name,
      call: readFileSync(join(beside, profile, name), "utf8"),
      expect: readFileSync(join(beside, profile, name.replace(".http", ".yaml")), "utf8"),
    }))
}

test.each(Object.values(profiles))(
  "the samples of $profile, which ships, come out as they are written down",
  (profile) => {
    const results = testProfile(profile, samplesOf(profile.profile))
    expect(results.length).toBeGreaterThan(2)
    expect(results.filter((one) => !one.passed)).toEqual([])
  },
)

const source = `
profile: lighthouse
title: a lighthouse
addresses: names
secrets: { word: { says: a word }, key: { says: a key } }
inbound:
  body: json
  verify: [{ scheme: word, secret: word, field: /secret }]
  message:
    id: /id
    from: /who
    text: /text
    time: /at
    place: /room
    group: { /kind: [room] }
    mention: { /at_us: [true], /named: ["{number}"] }
    own: { /mine: [true] }
    edited: { only: { /event: [changed] }, to: /about }
    deleted: { only: { /event: [gone] }, to: /about }
    reaction: { emoji: /smile, to: /onto }
    media: { each: /files, id: /id, mime: /type, name: /name, size: /bytes }
    fields: { lamp: /lamp }
outbound:
  address: "{apiBase}/rooms/{to}/say"
  authorization: { bearer: key }
  body: json
  send: { text: "{text}", meta: { by: us } }
  reply: { quoted: "{replyTo}" }
  extra: { lamp: { says: which lamp, send: { meta: { lamp: "{value}" } } } }
  amend: { address: "{apiBase}/said/{id}", send: { text: "{text}" } }
  remove: { address: "{apiBase}/said/{id}" }
  react: { address: "{apiBase}/said/{id}/smiles", send: { smile: "{emoji}" } }
  typing: { address: "{apiBase}/rooms/{to}/typing" }
fetch: { address: "{apiBase}/said/{message}/files/{attachment}" }
`
const read = readProfile(source)
const profile = "profile" in read ? read.profile : undefined!
const common = `secrets: { word: tide-word, key: key-word }\nsettings: { apiBase: "https://l.example/v1/", number: keeper }\n`
const http = (body: object) =>
  `POST /in/sample HTTP/1.1\nContent-Type: application/json\n\n${JSON.stringify({ secret: "tide-word", id: "m1", who: "ada", text: "hi there", at: 1795000000, ...body })}`
const run = (call: string, expect?: string) =>
  testProfile(profile, [{ name: "one", call, ...(expect === undefined ? {} : { expect }) }])[0]!

/** What one call can tell, and how it comes out. */
test.each<[string, object, string]>([
  ["a text", { lamp: 7 }, "{ event: text, id: m1, from: ada, text: hi there, fields: { lamp: '7' } }"],
  ["a room", { room: "r1", kind: "room" }, "{ place: r1, group: true, from: ada }"],
  ["a mention by a flag", { at_us: true }, "{ mentionsBot: true }"],
  ["a mention by a list", { named: ["someone", "keeper"] }, "{ mentionsBot: true }"],
  ["our own words", { mine: true }, "{ own: true }"],
  ["an edit", { event: "changed", about: "m0" }, "{ event: edited, replyTo: m0, text: hi there }"],
  ["an edit of itself", { event: "changed" }, "{ event: edited, key: 'm1:edited:1795000000' }"],
  ["a deletion", { event: "gone", about: "m0" }, "{ event: deleted, replyTo: m0, key: 'm0:deleted' }"],
  ["a reaction", { smile: "👍", onto: "m0" }, "{ event: reaction, reaction: { emoji: 👍, removed: false, to: m0 } }"],
  ["one taken back", { smile: "", onto: "m0" }, "{ event: reaction, reaction: { emoji: '', removed: true, to: m0 } }"],
  ["one that bears its target's id", { smile: "👍", onto: "m1" }, "{ key: 'm1:reaction:ada:👍:1795000000' }"],
  [
    "attachments",
    { files: [{ id: "f/1", type: "image/png", name: "a.png", bytes: 9 }, { id: 2 }] },
    "{ event: media, media: [{ kind: image, ref: m1/f%2F1, mime: image/png, name: a.png, size: 9 }, { kind: file, ref: m1/2 }] }",
  ],
])("%s is read", (_what, body, message) => {
  expect(run(http(body), `${common}messages: [${message}]`)).toEqual({ name: "one", passed: true, faults: [] })
})

/** What is said, and the call that goes out. */
test.each<[string, string, string, object | undefined]>([
  [
    "a text",
    "{ part: text, text: Boo }",
    "POST https://l.example/v1/rooms/r%201/say",
    { text: "Boo", meta: { by: "us" } },
  ],
  [
    "an answer to one message",
    "{ part: text, text: Boo, replyTo: m1 }",
    "POST https://l.example/v1/rooms/r%201/say",
    { text: "Boo", meta: { by: "us" }, quoted: "m1" },
  ],
  [
    "an extra, whatever it holds",
    "{ part: text, text: Boo, extra: { lamp: '{key} {text}' } }",
    "POST https://l.example/v1/rooms/r%201/say",
    { text: "Boo", meta: { by: "us", lamp: "{key} {text}" } },
  ],
  ["other words", "{ part: amend, to: m/9, text: Hoo }", "PUT https://l.example/v1/said/m%2F9", { text: "Hoo" }],
  ["nothing more", "{ part: remove, to: m9 }", "DELETE https://l.example/v1/said/m9", undefined],
  ["a reaction", "{ part: reaction, to: m9, emoji: 👍 }", "POST https://l.example/v1/said/m9/smiles", { smile: "👍" }],
  ["that it writes", "{ part: typing }", "POST https://l.example/v1/rooms/r%201/typing", undefined],
])("%s is said", (_what, reply, line, body) => {
  const call = `${line} HTTP/1.1\nAuthorization: Bearer key-word\n${body ? "Content-Type: application/json\n" : ""}\n${body ? JSON.stringify(body) : ""}`
  expect(run(call, `${common}to: r 1\nreply: [${reply}]`)).toEqual({ name: "one", passed: true, faults: [] })
})

test.each<[string, string, string | undefined, string]>([
  ["another text", http({}), `${common}messages: [{ text: bye }]`, 'messages.0.text is "hi there", not "bye"'],
  ["a message too few", http({}), `${common}messages: []`, "1 messages came out, not 0"],
  ["one that is not there", http({}), `${common}messages: [{ place: r9 }]`, 'messages.0.place is not there, not "r9"'],
  ["a wrong word", http({ secret: "x" }), common, "it is not genuine: the shared word is another"],
  ["a word that is right", http({}), `${common}genuine: false\nmessages: [{}]`, "it is genuine, and must not be"],
  ["a field nobody knows", http({}), "mesages: []", "mesages is not allowed"],
  ["no YAML", http({}), "a: [", "cannot be read"],
  ["no expectation", http({}), undefined, "nothing says what must come out"],
  [
    "another address",
    "POST https://l.example/v2/rooms/r/say\nAuthorization: Bearer key-word\nContent-Type: application/json\n\n{}",
    `${common}to: r\nreply: Boo`,
    'call.url is "https://l.example/v1/rooms/r/say"',
  ],
  ["a reply to nobody", http({}), `${common}reply: Boo`, "to is required"],
])("a red one says why: %s", (_what, call, expect_, says) => {
  const result = run(call, expect_)
  expect(result.passed).toBe(false)
  expect(result.faults.join("; ")).toContain(says)
})

test("where nothing says what must come out, what came is shown", () => {
  expect(run(http({})).came).toMatchObject({ messages: [{ from: "ada", text: "hi there" }], answer: { status: 200 } })
})
