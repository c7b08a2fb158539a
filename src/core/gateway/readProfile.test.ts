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
    "neither what is brought nor how anything is said",
    good.slice(good.indexOf("inbound:")),
    "",
    1,
    "none of inbound and outbound",
    "A profile needs inbound, outbound, or both",
  ],
  ...(
    [
      [
        "an answer inside a call that nothing reads",
        "inline: { within: 5, body: text, text: '{text}' }",
        "inline needs inbound",
      ],
      [
        "a queue whose messages nothing reads",
        "queue: { ask: { address: x }, handle: /h, remove: { address: x } }",
        "queue needs inbound",
      ],
      ["a past that nothing reads", "history: { address: x }", "history needs inbound"],
      [
        "a state told by calls that nothing reads",
        "state: { event: { state: /s }, good: ok, bad: { off: it is off }, remedy: x }",
        "there is no inbound",
      ],
    ] as const
  ).map(([what, more, says]): [string, string, string, number, string, string] => [
    what,
    good.slice(good.indexOf("inbound:"), good.indexOf("outbound:")),
    `${more}\n`,
    8,
    says,
    "Add inbound",
  ]),
  ...(
    [
      [
        "a register that sets nothing",
        "register: { read: { address: x, answer: { address: /a } } }",
        "register.set is missing",
        "docs/",
      ],
      [
        "a read that says not where",
        "register: { set: { address: x }, read: { address: x } }",
        "register.read.answer is missing",
        "docs/",
      ],
      ["a method nobody knows", "history: { method: FETCH, address: x }", '"FETCH" is no method', "GET, POST, PUT"],
      ["an extra without a meaning", "history: { address: '{extra}' }", '"{extra}" stands for nothing', "use one of"],
      [
        "a state asked for by nothing",
        "state: { every: 60s, good: ok, bad: { off: x }, remedy: x }",
        "no check that asks",
        "Add check",
      ],
      [
        "a state asked for too often",
        "state: { every: 1s, good: ok, bad: { off: x }, remedy: x }",
        "10s or more",
        "docs/",
      ],
      [
        "a doubt asked for by a mark that is not sent",
        "find: { address: 'x/{mark}', answer: { id: /id } }",
        "does not carry it",
        "reference",
      ],
      [
        "a bearer that is no secret",
        "check: { address: x, authorization: { bearer: apiKy } }",
        'no secret "apiKy"',
        'Was "apiKey" meant?',
      ],
      [
        "a name that is neither setting nor secret",
        "check: { address: x, authorization: { basic: [stat, apiKey] } }",
        'no setting or secret "stat"',
        "Add it",
      ],
      [
        "a length of time in words",
        "queue: { ask: { address: x }, handle: /h, remove: { address: x }, keeps: two days }",
        "not a length of time",
        "docs/",
      ],
      ["an address for our own words", "check: { address: 'x/{text}' }", '"{text}" stands for nothing', "Add it"],
    ] as const
  ).map(([what, more, says, remedy]): [string, string, string, number, string, string] => [
    what,
    good.slice(good.indexOf("outbound:")),
    `${good.slice(good.indexOf("outbound:"))}${more}\n`,
    18,
    says,
    remedy,
  ]),
  ...(
    [
      [
        "attachments by an id that nothing fetches",
        "media: { each: /a, id: /id }",
        "nothing says how one is fetched",
        "Add fetch",
      ],
      [
        "attachments by an id and an address",
        "media: { each: /a, id: /id, address: /url }",
        "both of address and id",
        "Keep one",
      ],
      ["an edit that nothing tells", "edited: { to: /id }", "none of when and only", "Write when or only"],
      ["a reaction to nothing", "reaction: { emoji: /e }", "reaction.to is missing", "docs/"],
      ["an edit's id with dots", "edited: { when: [/e], to: a.b }", "is not a JSON Pointer", "/a/b"],
      ["a mention that is no list of values", "mention: /at", "must be of type object", "docs/"],
    ] as const
  ).map(([what, more, says, remedy]): [string, string, string, number, string, string] => [
    what,
    ", text: /text",
    `, text: /text, ${more}`,
    12,
    says,
    remedy,
  ]),
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
