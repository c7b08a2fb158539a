// Writes docs/parts.md from what the kinds of channel tell of themselves: node scripts/parts-table.mjs [--check]
import { readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"
import * as prettier from "prettier"
import { bundle } from "./build.mjs"

const root = fileURLToPath(new URL("..", import.meta.url))
const file = join(root, "docs/parts.md")
await bundle("dist/scripts", { registry: "src/core/channels/registry.ts", reply: "src/core/message/reply.ts" }, false)
const { kinds } = await import(join(root, "dist/scripts/registry.js"))
const { replyShapes } = await import(join(root, "dist/scripts/reply.js"))

const code = (text) => `\`\`\`json\n${JSON.stringify(text)}\n\`\`\``
/** One of each part, as it is sent. */
const examples = Object.fromEntries(
  [
    { part: "text", text: "Next boat to **Holm Island**: 14:20" },
    { part: "choices", text: "Which crossing?", choices: [{ id: "1420h", label: "14:20 to Holm Island" }] },
    { part: "media", kind: "image", url: "https://ferry.example/holm-island.png", caption: "Holm Island" },
    { part: "cards", cards: [{ title: "Lighthouse walk", choices: [{ id: "tour:walk", label: "Tell me more" }] }] },
    { part: "location", latitude: 38.7, longitude: -9.1, name: "The quay" },
    { part: "contact", name: "Lost property", phone: "+447700900123" },
    { part: "template", name: "crossing_off", language: "en_GB", parameters: ["14:20"], text: "The {{1}} is off." },
    { part: "reaction", to: "wamid.made-up", emoji: "👍" },
    { part: "typing" },
    { part: "amend", to: "1042", text: "Taken: 14:20", choices: [] },
    { part: "remove", to: "1042" },
  ].map((example) => [example.part, code(example)]),
)

const signs = { native: "●", simpler: "◐", words: "○", "left out": "–" }
const all = Object.values(kinds)
const parts = Object.keys(all[0].abilities.parts)
const rows = parts.map(
  (part) =>
    `| \`${part}\` | ${all.map(({ abilities }) => `${signs[abilities.parts[part].how]} ${abilities.parts[part].as}`).join(" | ")} |`,
)
/** The fields of a part, and of what its lists hold, as the schema that checks them describes them. */
function fieldsOf(keys, within = "") {
  return Object.entries(keys).flatMap(([name, { flags = {}, items, keys: inner }]) => {
    if (name === "part") return []
    const list = items?.[0]?.keys
    const row = `| \`${within}${name}${items ? "[]" : ""}\` | ${flags.presence === "required" ? "yes" : ""} | ${flags.description ?? ""} |`
    return [row, ...fieldsOf(list ?? inner ?? {}, `${within}${name}${items ? "[]" : ""}.`)]
  })
}
const shapes = Object.entries(replyShapes).map(
  ([part, schema]) => `### \`${part}\`

${examples[part]}

| field | required | what it is |
| --- | --- | --- |
${fieldsOf(schema.describe().keys).join("\n")}
`,
)

const source = `# What each kind of channel can show

A reply is written once, in parts. Each kind shows a part as its own (●), in a simpler form of its own (◐), in plain words (○), or leaves it out where nobody has to read it (–). Choices always come back as the choice: pressed, typed as their number, or typed as their label.

This page is written by \`node scripts/parts-table.mjs\` from what the kinds tell of themselves. To see one reply on all of them, open the page _How it looks_ of the console.

| part | ${all.map((one) => one.kind).join(" | ")} |
| --- | ${all.map(() => "---").join(" | ")} |
${rows.join("\n")}
`
const whole = `${source}
## Fields

As a handler returns them, and as \`POST /api/v1/messages\` takes them under \`replies\`; each part also has \`part\`, its name. In a handler, the SDK's functions of the same names make them.

${shapes.join("\n")}`
const options = await prettier.resolveConfig(file)
const text = await prettier.format(whole, { ...options, parser: "markdown" })
if (process.argv.includes("--check")) {
  if (readFileSync(file, "utf8") !== text) {
    console.error("docs/parts.md is not what the kinds tell: run node scripts/parts-table.mjs")
    process.exit(1)
  }
} else writeFileSync(file, text)
