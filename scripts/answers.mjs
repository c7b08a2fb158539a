// Writes src/service/answers.json: the schemas of what the API answers, from the types of src/client/api.ts. With
// --check it only says whether the file is as the types are.
import { readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"
import { createGenerator } from "ts-json-schema-generator"

const root = fileURLToPath(new URL("..", import.meta.url))
const file = join(root, "src/service/answers.json")

const { definitions } = createGenerator({
  path: join(root, "src/client/api.ts"),
  tsconfig: join(root, "tsconfig.json"),
  type: "Api",
  skipTypeCheck: true,
  additionalProperties: true,
}).createSchema("Api")

/** `Page<MessageView>` is called PageOfMessageView. */
const nameOf = (name) => decodeURIComponent(name).replace(/^(\w+)<(\w+)>$/, "$1Of$2")

function rewritten(value) {
  if (Array.isArray(value)) return value.map(rewritten)
  if (typeof value !== "object" || value === null) return value
  return Object.fromEntries(
    Object.entries(value).map(([name, inner]) =>
      name === "$ref"
        ? [name, `#/components/schemas/${nameOf(inner.replace("#/definitions/", ""))}`]
        : [name, rewritten(inner)],
    ),
  )
}

const { Api, ...types } = definitions
const answers = Object.fromEntries(
  Object.entries(Api.properties).map(([name, { properties }]) => [name, rewritten(properties?.answer ?? {})]),
)
const used = new Set()
const schemas = {}
const use = (value) => {
  for (const [, name] of JSON.stringify(value).matchAll(/"#\/components\/schemas\/(\w+)"/g)) {
    if (used.has(name)) continue
    used.add(name)
    const [, type] = Object.entries(types).find(([given]) => nameOf(given) === name)
    schemas[name] = rewritten(type)
    use(schemas[name])
  }
}
use(answers)
const sorted = Object.fromEntries(Object.entries(schemas).sort(([a], [b]) => (a < b ? -1 : 1)))
/** One line each, so that a change shows what it changed. */
const lines = (given) =>
  Object.entries(given)
    .map(([name, value]) => `${JSON.stringify(name)}: ${JSON.stringify(value)}`)
    .join(",\n")
const written = `{"answers": {\n${lines(answers)}\n}, "schemas": {\n${lines(sorted)}\n}}\n`
if (process.argv.includes("--check")) {
  if (readFileSync(file, "utf8") === written) process.exit(0)
  console.error("src/service/answers.json is not as the types are: run node scripts/answers.mjs.")
  process.exit(1)
}
writeFileSync(file, written)
