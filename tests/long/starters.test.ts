import { writeFileSync } from "node:fs"
import { spawnSync } from "node:child_process"
import { join } from "node:path"
import { endAll, root, run, tempFolder } from "../support/harness.ts"

/** Checks the types in some folders: in one run, since reading the declarations takes most of the time. */
const types = (...folders: string[]) =>
  spawnSync(process.execPath, [join(root, "node_modules/typescript/bin/tsc"), "-b", ...folders], { encoding: "utf8" })

const starters = ["echo", "keyword", "questions", "relay", "queue", "model"]
const folders = new Map<string, string>()
let typeFaults: string

beforeAll(async () => {
  for (const starter of starters) {
    const folder = join(tempFolder(), `${starter}-bot`)
    folders.set(starter, folder)
    const begun = await run(["bot", "new", folder, "--starter", starter], {})
    expect(begun).toMatchObject({ code: 0, err: "" })
    expect(begun.out).toContain(`wobbet serve --bot ${folder}`)
  }
  const { status, stdout } = types(...folders.values())
  typeFaults = status === 0 ? "" : stdout
}, 90_000)
afterAll(endAll)

test.each(starters)(
  "a bot begun from the starter %s is valid, and its types are right",
  async (starter) => {
    const checked = await run(["bot", "check", folders.get(starter)!], {})
    expect([checked.code, checked.out]).toEqual([0, expect.stringMatching(/\w+-bot is valid: \d routes?/)])
    expect(typeFaults).toBe("")
  },
  60_000,
)

test("an editor and tsc see what is wrong in an interview: an answer's type follows from its question", async () => {
  const folder = join(tempFolder(), "quay-bot")
  await run(["bot", "new", folder, "--starter", "questions"], {})
  writeFileSync(
    join(folder, "handlers/wrong.ts"),
    `import { answer, interview } from "wobbet"
export default interview(function* () {
  const seats: string = yield* answer.integer("How many?")
  const where = yield* answer.choice("Where?", ["Holm Island", "Tern Point"])
  if (where === "the moon") return "no"
  const boat = yield* answer.choice("With which?", { gull: "The Gull", tern: "The Tern" })
  if (boat === "puffin") return "no"
  return seats
})
`,
  )
  const { status, stdout } = types(folder)
  expect(status).not.toBe(0)
  expect(
    stdout
      .split("\n")
      .filter((line) => /^\S*handlers\//.test(line))
      .join("\n"),
  ).toMatch(
    /wrong.ts\(3,.*'number' is not assignable to type 'string'[^]*\(5,.*"Holm Island" \| "Tern Point"[^]*\(7,.*"gull" \| "tern"/,
  )
}, 60_000)

test("a bot is not begun in a folder that holds something, from nothing, or under a name that is none", async () => {
  const folder = tempFolder({ "notes.txt": "" })
  const cases: [string[], string][] = [
    [[folder], "holds something already: notes.txt"],
    [[join(folder, "new"), "--starter", "canvas"], 'There is no starter "canvas".'],
    [[join(folder, "new"), "--name", "Tern Point"], '"Tern Point" is not a name for a bot.'],
  ]
  for (const [args, says] of cases) {
    const { code, err } = await run(["bot", "new", ...args], {})
    expect([code, err]).toEqual([1, expect.stringContaining(says)])
  }
})
