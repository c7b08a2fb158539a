import { join } from "node:path"
import { checkBotFolder } from "../src/service/botCheck.ts"
import { root, tempFolder } from "./support/harness.ts"
import { readFileSync } from "node:fs"

const sdk = {
  from: { sdk: join(root, "dist/sdk.js"), home: undefined, roots: [] },
  declaration: readFileSync(join(root, "dist/types/sdk/index.d.ts"), "utf8"),
}

/** A route on line 3, and what stands around it. */
const route = (when: string, rest = "handler: { text: hi }") =>
  `bot: ferry\nroutes:\n  - { name: r, when: ${when}, ${rest} }\n`
const phrase = (source: string) => route(`{ phrase: ${JSON.stringify(source)} }`)
const top = (line: string) => `bot: ferry\n${line}\nroutes: []\n`

type Files = { [path: string]: string }

/** What is wrong, and the line, the words and the remedy by which it is told. */
const table: [what: string, files: string | Files, at: string, says: string, remedy?: string][] = [
  ["no name", "routes: []\n", "bot.yaml:1", '"bot" is missing'],
  ["a bad name", "bot: Tern Point\n", "bot.yaml:1", "small letters, digits and hyphens"],
  ["a field that is misspelt", top("lanugage: en"), "bot.yaml:2", '"lanugage" is not known here', "Write language."],
  [
    "a field that is nothing like any",
    top("colour: red"),
    "bot.yaml:2",
    '"colour" is not known here',
    "Write one of: bot, ",
  ],
  [
    "a route's field that is misspelt",
    route("{ command: a }", "handlr: x"),
    "bot.yaml:3",
    '"handlr" is not known here',
    "Write handler.",
  ],
  [
    "a condition that is misspelt",
    route("{ comand: a }"),
    "bot.yaml:3",
    '"comand" is not known here',
    "Write command.",
  ],
  ["an empty condition", route("{}"), "bot.yaml:3", "the condition is empty"],
  [
    "two routes of one name",
    `${route("{ command: a }")}  - { name: r, when: { command: b }, handler: { text: hi } }\n`,
    "bot.yaml:4",
    'two routes have the name "r"',
  ],
  ["a command with its slash", route("{ command: /book }"), "bot.yaml:3", "a command is written without its slash"],
  ["an event there is not", route("{ event: joind }"), "bot.yaml:3", '"joind" is not known here', "Write joined."],
  [
    "media there is not",
    route("{ media: picture }"),
    "bot.yaml:3",
    '"picture" is not known here',
    "Write one of: any, image",
  ],
  ["a phrase that is not closed", phrase("[next boat"), "bot.yaml:3", '"]" is missing'],
  ["a phrase of optional parts alone", phrase("[next] [boat]"), "bot.yaml:3", "every part of the phrase is optional"],
  ["a phrase of the earlier form", phrase("next boat[s] {place}"), "bot.yaml:3", "is of an earlier form", "Write "],
  [
    "a phrase without quotes",
    "bot: ferry\nroutes:\n  - name: r\n    when:\n      phrase: [next] boat\n    handler: { text: hi }\n",
    "bot.yaml:5",
    "",
    '"[next] boat"',
  ],
  [
    "a rule that is misspelt",
    `bot: ferry\nrules: { place: holm }\n${phrase("to $plaec").slice(11)}`,
    "bot.yaml:4",
    "there is no rule $plaec; was $place meant?",
  ],
  ["a type that is misspelt", phrase("on $dte"), "bot.yaml:3", "was $date meant?"],
  ["rules in a circle", top('rules: { a: "$b", b: "$a" }'), "bot.yaml:2", "in a circle: $a → $b → $a"],
  ["a rule named as a type", top('rules: { date: "today" }'), "bot.yaml:2", "may not be named as the type $date"],
  ["a slot that is filled twice", phrase("$integer{n} or $integer{n}"), "bot.yaml:3", "the slot n may be filled twice"],
  ["a repeat that explodes", phrase("((((a<50>)<50>)<50>)<50>)"), "bot.yaml:3", "50000 parts"],
  [
    "a pattern that cannot be read",
    route("{ pattern: '(ticket' }"),
    "bot.yaml:3",
    'the pattern "(ticket" cannot be read: missing closing )',
  ],
  ["a pattern that looks ahead", route("{ pattern: 'a(?=b)' }"), "bot.yaml:3", "takes time without a bound"],
  ["a pattern that repeats too much", route("{ pattern: '(a{1000}){1000}' }"), "bot.yaml:3", "invalid repeat count"],
  [
    "a size that is none",
    route("{ attachment: { most: large } }"),
    "bot.yaml:3",
    '"large" is not a size; write 500kB or 5MB',
  ],
  [
    "a type of attachment that is none",
    route("{ attachment: { type: jpeg } }"),
    "bot.yaml:3",
    "a type is written as image/*",
  ],
  ["a length of time that is none", route("{ silent: a while }"), "bot.yaml:3", '"a while" is not a length of time'],
  [
    "hours there are not",
    `bot: ferry\nhours: { office: { open: { mon-fri: "08:00-18:00" } } }\n${route("{ during: ofice }").slice(11)}`,
    "bot.yaml:4",
    'there are no hours "ofice"',
    "Write office.",
  ],
  [
    "hours of a day there is not",
    top('hours: { office: { open: { mon-fry: "08:00-18:00" } } }'),
    "bot.yaml:2",
    '"mon-fry" names no day',
  ],
  [
    "hours without numbers",
    top("hours: { office: { open: { mon: all day } } }"),
    "bot.yaml:2",
    '"all day" is not a span of hours; write "08:00-18:00"',
  ],
  [
    "a holiday there is not",
    top('hours: { office: { open: { mon: "08:00-09:00" }, closed: [12-40] } }'),
    "bot.yaml:2",
    '"12-40" is not a day',
  ],
  [
    "a calendar there is not",
    top('hours: { office: { open: { mon: "08:00-09:00" }, closed: days.ics } }'),
    "bot.yaml:2",
    "there is no file days.ics in the folder",
  ],
  [
    "a calendar that is none",
    {
      "bot.yaml": top('hours: { office: { open: { mon: "08:00-09:00" }, closed: days.ics } }'),
      "days.ics": "closed on Fridays",
    },
    "bot.yaml:2",
    "days.ics: it is not an iCalendar file",
  ],
  ["a zone there is not", top("zone: Europe/Lissabon"), "bot.yaml:2", '"Europe/Lissabon" is no time zone'],
  [
    "a language there is not",
    top("language: xx"),
    "bot.yaml:2",
    '"xx" is not known here',
    "Write one of: en, de, fr, es, pt.",
  ],
  [
    "a rule for groups that is none",
    top("groups: mentioned"),
    "bot.yaml:2",
    '"mentioned" is not known here',
    "Write one of: always, addressed, never.",
  ],
  [
    "a handler there is not",
    { "bot.yaml": route("{ command: a }", "handler: hepl"), "handlers/help.ts": "export default () => 'hi'" },
    "bot.yaml:3",
    'there is no handler "hepl"',
    "Write help.",
  ],
  [
    "a field of a text there is not",
    route("{ command: a }", 'handler: { text: "Hi {{contact.nmae}}" }'),
    "bot.yaml:3",
    "{{contact.nmae}} names nothing of contact",
    "Write {{contact.name}}.",
  ],
  [
    "a format there is not",
    route('{ phrase: "on $date{day}" }', 'handler: { text: "{{slots.day, dat, long}}" }'),
    "bot.yaml:3",
    "it is none of date, time, number, plural",
  ],
  [
    "a plural without its other",
    route('{ phrase: "$integer{n} seats" }', 'handler: { text: "{{slots.n, plural, one {seat}}}" }'),
    "bot.yaml:3",
    "it needs an other {…} at its end",
  ],
  [
    "a text there is not",
    {
      "bot.yaml": route("{ command: a }", 'handler: { text: "{{texts.clsed}}" }'),
      "texts/quay.yaml": "closed: Closed.\n",
    },
    "bot.yaml:3",
    "{{texts.clsed}} names nothing of texts",
    "Write {{texts.closed}}.",
  ],
  [
    "texts in a circle",
    top('texts: { a: "{{texts.b}}", b: "{{texts.a}}" }'),
    "bot.yaml:2",
    "the text a leads back to itself",
  ],
  [
    "a text in a file that is wrong",
    { "bot.yaml": top("zone: UTC"), "texts/quay.yaml": "closed:\n  english: Closed.\n" },
    "texts/quay.yaml:2",
    '"english"',
  ],
  [
    "a text in two files",
    { "bot.yaml": top("zone: UTC"), "texts/a.yaml": "x: X\n", "texts/b.yaml": "x: Y\n" },
    "texts/b.yaml:1",
    "the text x stands in another file too",
  ],
  ["a tab", "bot: ferry\n\troutes: []\n", "bot.yaml:2", ""],
  ["a list that is not closed", "bot: ferry\nroutes: [\n", "bot.yaml:3", '"]" is missing'],
]

test.each(table)("%s is told with its file, line, word and remedy", async (_what, files, at, says, ...rest) => {
  const folder = tempFolder(typeof files === "string" ? { "bot.yaml": files } : files)
  const { faults } = await checkBotFolder(folder, sdk)
  expect(faults.length).toBeGreaterThan(0)
  const told = faults.map(
    ({ file, line, says, remedy }) => `${file.replace(`${folder}/`, "")}:${line} ${says}. ${remedy ?? ""}`,
  )
  const [remedy = ""] = rest
  const fits = told.find((one) => one.startsWith(`${at} `) && one.includes(says) && one.includes(remedy))
  expect(fits ?? told).toEqual(expect.any(String))
})

const huge = "a".repeat(20_000)
const many = (count: number, line: (n: number) => string) =>
  Array.from({ length: count }, (_none, n) => line(n)).join("")

test.each<[string, string | Files, string]>([
  ["a phrase", phrase(`${huge} boat`), "characters; 10000 are read"],
  ["a pattern", route(`{ pattern: '${huge}' }`), "characters; 1000 are read"],
  [
    "a pattern in steps",
    route("{ pattern: '[a-z]{900}([0-9]{900}|x{900})y{900}' }"),
    "is too large; write smaller repeats",
  ],
  ["a text", route("{ command: a }", `handler: { text: "${"a".repeat(30_000)}" }`), "20000"],
  [
    "a text's nesting",
    route("{ command: a }", `handler: { text: "${"{{slots.a, select, other {".repeat(300)}" }`),
    "brackets are nested too deeply",
  ],
  ["nested conditions", route(`${"{ not: ".repeat(200)}{ command: a }${" }".repeat(200)}`), "nested too deeply"],
  ["hours", top(`hours: { office: { open: { mon: "${"08:00-09:00, ".repeat(3000)}10:00-11:00" } } }`), "200"],
  [
    "a mapping",
    { "bot.yaml": top("zone: UTC"), "rules/place.csv": many(120_000, (n) => `Mooring ${n},mooring ${n}\n`) },
    "2000000 are read",
  ],
  ["a calendar", { "bot.yaml": top("zone: UTC"), "days.ics": "x".repeat(600_000) }, "500000 are read"],
  [
    "the file",
    `bot: ferry\nroutes:\n${many(40_000, (n) => `  - { name: r${n}, when: { command: c${n} }, handler: { text: hi } }\n`)}`,
    "longer than 2000000 characters",
  ],
])("%s of hostile size is a clear fault", async (_what, files, says) => {
  const folder = tempFolder(typeof files === "string" ? { "bot.yaml": files } : files)
  const { faults } = await checkBotFolder(folder, sdk)
  expect(
    faults
      .map((fault) => fault.says)
      .join("\n")
      .slice(0, 100_000),
  ).toContain(says)
})
