import { readProfile } from "./readProfile.ts"
import { profiles, shippedSources } from "./shipped.ts"

const good = `profile: lighthouse
title: the lighthouse's gateway
settings:
  station: { says: which station, required: true }
secrets:
  sharedWord: { says: the agreed word }
  apiKey: { says: the key for sending, required: true }
inbound:
  body: json
  verify:
    - { scheme: word, secret: sharedWord, query: word }
  message: { id: /id, from: /from, text: /text }
outbound:
  address: "{apiBase}/stations/{station}/out"
  authorization: { bearer: apiKey }
  body: json
  send: { to: "{to}", text: "{text}" }
`

test("a good one reads, and so do those that ship", () => {
  expect(readProfile(good)).toHaveProperty("profile.profile", "lighthouse")
  expect(Object.keys(profiles)).toEqual(Object.keys(shippedSources))
})

/** Each with the line where it stands, what is wrong, and what would be right. */
test.each<[string, string, string, number, string, string]>([
  [
    "a word that is none of those possible",
    "body: json\n  verify",
    "body: jsn\n  verify",
    9,
    '"jsn" is no body',
    'Was "json" meant?',
  ],
  ["a field that does not exist", "id: /id, from", "idd: /id, from", 12, 'no field "idd"', 'Was "id" meant?'],
  [
    "a header no call can carry",
    "query: word",
    'header: "x sign"',
    11,
    '"x sign" cannot be a header',
    "one header's name",
  ],
  ["something missing", ", text: /text", "", 12, "inbound.message.text is missing", "Say where the text stands"],
  ["a scheme nobody knows", "scheme: word", "scheme: wrod", 11, '"wrod" is no scheme', 'Was "word" meant?'],
  [
    "a secret that is not declared",
    "secret: sharedWord",
    "secret: shardWord",
    11,
    'no secret "shardWord"',
    'Was "sharedWord" meant?',
  ],
  [
    "a placeholder that stands for nothing",
    "{station}",
    "{staton}",
    14,
    '"{staton}" stands for nothing',
    'Was "{station}" meant?',
  ],
  ["a brace that is not closed", '"{text}"', '"{text"', 17, "opens a brace", 'Write placeholders as "{name}"'],
  ["a path with dots", "from: /from", "from: sender.number", 12, "is not a JSON Pointer", "/sender/number"],
  [
    "a path without its first slash",
    "from: /from",
    "from: sender/number",
    12,
    "is not a JSON Pointer",
    "Begin it with a slash: /sender/number",
  ],
  [
    "no proof at all",
    "    - { scheme: word, secret: sharedWord, query: word }",
    "    []",
    10,
    "nothing says how the gateway's calls are proven",
    "Calls that prove nothing are never taken",
  ],
  ["a word that comes nowhere", ", query: word", "", 11, "none of header and query", "Write header or query"],
  [
    "no way of answering",
    good.slice(good.indexOf("outbound:")),
    "",
    1,
    "none of outbound and inline",
    "A profile needs outbound, inline, or both",
  ],
  [
    "late replies that have nowhere to go",
    good.slice(good.indexOf("outbound:")),
    "inline: { within: 5, body: text, text: '{text}', late: api }\n",
    13,
    "there is no outbound",
    "write late: park",
  ],
  [
    "a time with a unit",
    good.slice(good.indexOf("outbound:")),
    "inline: { within: 5s, body: text, text: '{text}' }\n",
    13,
    "inline.within must be a number",
    "a number, without a unit",
  ],
  [
    "a name with capitals",
    "profile: lighthouse",
    "profile: Light House",
    1,
    '"Light House" cannot be a profile',
    "small letters, digits and hyphens",
  ],
  [
    "two ways to authorise",
    "{ bearer: apiKey }",
    "{ bearer: apiKey, basic: [station, apiKey] }",
    15,
    "both of basic and bearer",
    "Keep one of them",
  ],
  ["no YAML", "  body: json\n  verify", "  body: json\n verify", 10, "", "Indent with spaces"],
])("%s is told with line, field and remedy", (_what, from, to, line, says, remedy) => {
  expect(good).toContain(from)
  const read = readProfile(good.replace(from, to))
  const faults = "faults" in read ? read.faults : []
  expect(faults[0]).toEqual({
    line,
    field: expect.any(String) as unknown,
    says: expect.stringContaining(says) as unknown,
    remedy: expect.stringContaining(remedy) as unknown,
  })
})

test("all faults are told at once, in the order of their lines", () => {
  const read = readProfile(good.replace("body: json\n  verify", "body: jsn\n  verify").replace("send: {", "sned: {"))
  expect("faults" in read && read.faults.map(({ line }) => line)).toEqual([9, 13, 17])
})
