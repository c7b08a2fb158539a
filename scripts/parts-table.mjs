// Writes docs/parts.md from what the kinds of channel tell of themselves: node scripts/parts-table.mjs [--check]
import { readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"
import * as prettier from "prettier"
import { bundle } from "./build.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const file = join(root, "docs/parts.md")
await bundle("dist/scripts", { registry: "src/core/channels/registry.ts" }, false)
const { kinds } = await import(join(root, "dist/scripts/registry.js"))

const signs = { native: "●", simpler: "◐", words: "○", "left out": "–" }
const all = Object.values(kinds)
const parts = Object.keys(all[0].abilities.parts)
const rows = parts.map(
  (part) =>
    `| \`${part}\` | ${all.map(({ abilities }) => `${signs[abilities.parts[part].how]} ${abilities.parts[part].as}`).join(" | ")} |`,
)
const source = `# What each kind of channel can show

A reply is written once, in parts. Each kind shows a part as its own (●), in a simpler form of its own (◐), in plain words (○), or leaves it out where nobody has to read it (–). Choices always come back as the choice: pressed, typed as their number, or typed as their label.

This table is written by \`node scripts/parts-table.mjs\` from what the kinds tell of themselves. To see one reply on all of them, open the page _How it looks_ of the console.

| part | ${all.map((one) => one.kind).join(" | ")} |
| --- | ${all.map(() => "---").join(" | ")} |
${rows.join("\n")}
`
const options = await prettier.resolveConfig(file)
const text = await prettier.format(source, { ...options, parser: "markdown" })
if (process.argv.includes("--check")) {
  if (readFileSync(file, "utf8") !== text) {
    console.error("docs/parts.md is not what the kinds tell: run node scripts/parts-table.mjs")
    process.exit(1)
  }
} else writeFileSync(file, text)
