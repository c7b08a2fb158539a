import { readdirSync, readFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"
// @ts-expect-error: a script has no declarations
import { mechanisms as known } from "../../scripts/mechanisms.mjs"

const root = fileURLToPath(new URL("../..", import.meta.url))

interface Mechanism {
  name: string
  file: string
  from: string
  and?: [file: string, from: string, to: string][]
  test: [file: string, pattern: string]
}
const mechanisms = known as Mechanism[]

test.each(mechanisms.map((mechanism) => ({ ...mechanism })))(
  "$name: what is taken out is there, and so is its test",
  ({ file, from, and = [], test: [tests] }) => {
    for (const [path, text] of [[file, from] as const, ...and])
      expect([path, readFileSync(join(root, path), "utf8").includes(text)]).toEqual([path, true])
    expect(readdirSync(join(root, "tests/faults")).some((name) => name.startsWith(tests))).toBe(true)
  },
)
