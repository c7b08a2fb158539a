import { readRuleFile } from "./ruleFile.ts"

test("a CSV file gives words and their phrases, as a spreadsheet writes it", () => {
  const source = '\ufeffHolm Island,holm [island],the island\r\n"Tern Point, North",tern,,\r\n\r\nGull\'s Rest\r\n'
  expect(readRuleFile(source, "csv")).toEqual({
    mapping: {
      "Holm Island": ["holm [island]", "the island"],
      "Tern Point, North": ["tern"],
      "Gull's Rest": ['"Gull\'s Rest"'],
    },
  })
})

test("a YAML file does the same", () => {
  expect(readRuleFile("Holm Island: [holm, the island]\nTern Point: tern [point]\nGull:\n", "yaml")).toEqual({
    mapping: { "Holm Island": ["holm", "the island"], "Tern Point": ["tern [point]"], Gull: ['"Gull"'] },
  })
})

test("thousands of words are read", () => {
  const source = Array.from({ length: 10_000 }, (_none, at) => `Place ${at},place ${at},p${at}`).join("\n")
  const read = readRuleFile(source, "csv")
  expect("mapping" in read && Object.keys(read.mapping)).toHaveLength(10_000)
})

test.each<[string, "csv" | "yaml", number, string]>([
  ["a,b\na,c", "csv", 2, '"a" stands there twice'],
  ["a,b\n,c", "csv", 2, "no word in its first column"],
  ["a,b\nc,(d", "csv", 2, 'the phrase "(d" cannot be read'],
  ["a,b\nc,[d]", "csv", 2, "every part of the phrase is optional"],
  ['a,b\nc,"d', "csv", 2, "cannot be read as CSV"],
  ["", "csv", 1, "holds no words"],
  ["- a", "yaml", 1, "no mapping"],
  ["a: b\nc: { d: e }", "yaml", 2, "something else than phrases"],
  ["a: b\nc: (d", "yaml", 2, 'the phrase "(d" cannot be read'],
  ["a: [b", "yaml", 1, ""],
  [
    "x,y\n".replace("x", "w").repeat(1) + Array.from({ length: 20_001 }, (_none, at) => `w${at}`).join("\n"),
    "csv",
    1,
    "20000 are read",
  ],
])("%.20j as %s is a fault in line %i: %s", (source, format, line, says) => {
  const read = readRuleFile(source, format)
  if (!("faults" in read)) throw new Error("it was read")
  expect(read.faults[0]).toMatchObject({ line, says: expect.stringContaining(says) as unknown })
})
