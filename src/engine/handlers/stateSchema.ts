import { existsSync } from "node:fs"
import { createRequire } from "node:module"
import { join, resolve } from "node:path"
import { Ajv2020 } from "ajv/dist/2020.js"
import addFormatsModule from "ajv-formats"
import { readYaml } from "../../core/message/yaml.ts"
import type { Bot, Fault } from "../../core/routing/bot.ts"
import type { FolderReader } from "./folderReader.ts"
import type { CodeRunner, ReadyRelease, TurnInput } from "./handler.ts"
import { HandlerFault } from "./handler.ts"
import { shownPath } from "./shownPath.ts"

type StateSchema = NonNullable<Bot["stateSchema"]>

/** Under what name the bundle has it; a handler's file cannot be named so. */
const inBundle = "state schema"

/** Bytes of its file. */
const longestSource = 1_000_000
/** Milliseconds it may take. */
const longest = 2000

/** The schema of a folder, if it has one: a Joi schema that `state.ts` exports, or a JSON Schema in `state.yaml`. */
export async function readStateSchema(
  reader: FolderReader,
): Promise<{ schema: StateSchema; code: string } | { faults: Fault[] } | undefined> {
  const [code, yaml] = [join(reader.folder, "state.ts"), join(reader.folder, "state.yaml")]
  if (existsSync(code) && existsSync(yaml)) {
    const remedy = "Remove one of them."
    return { faults: [{ file: shownPath(yaml), line: 1, says: "there is a state.ts beside it", remedy }] }
  }
  if (existsSync(code)) {
    const source = await reader.textOr(code, longestSource)
    if (typeof source !== "string") return { faults: [source] }
    const migrates = /^export\s+(async\s+)?(function|const|let)\s+migrate\b/m.test(source)
    return { schema: { file: "state.ts", migrates }, code: ofCode }
  }
  if (!existsSync(yaml)) return undefined
  const source = await reader.textOr(yaml, longestSource)
  if (typeof source !== "string") return { faults: [source] }
  const read = readYaml(source)
  const file = shownPath(yaml)
  if ("faults" in read)
    return {
      faults: read.faults.map(({ at, says, remedy }) => ({ file, line: read.lines.linePos(at).line, says, remedy })),
    }
  try {
    addFormats(new Ajv2020({ strict: false })).compile(read.value as object)
  } catch (error) {
    const remedy = "Write it as a JSON Schema: type: object, properties: …"
    return { faults: [{ file, line: 1, says: `it is not a schema: ${(error as Error).message}`, remedy }] }
  }
  return { schema: { file: "state.yaml", migrates: false }, code: ofJson(read.value) }
}

// The package says it has a default export, and is one itself.
const addFormats = addFormatsModule as unknown as (ajv: Ajv2020) => Ajv2020

const looking = `
const handlers_state = ({ state, slots }) => {
  let value = state
  const migrated = slots.migrate === 1 && typeof migrate === "function" && faultOf(value) !== undefined
  if (migrated) {
    value = migrate(value)
    if (value === null || typeof value !== "object" || Array.isArray(value)) throw new TypeError("migrate gave no state")
  }
  return { state: { value, migrated, fault: faultOf(value) ?? null } }
}
`

const ofCode = `
import * as stateModule from "./state.ts"
const { default: schema, migrate } = stateModule
if (typeof schema?.validate !== "function") throw new TypeError("state.ts: its default export is not a Joi schema")
const faultOf = (value) => schema.validate(value, { convert: false, errors: { wrap: { label: '"' } } }).error?.details[0].message
${looking}`

function ofJson(schema: unknown): string {
  return `
import { Ajv2020 } from "ajv/dist/2020.js"
import addFormats from "ajv-formats"
const fits = addFormats(new Ajv2020({ strict: false })).compile(${JSON.stringify(schema)})
const migrate = undefined
const faultOf = (value) => {
  if (fits(value)) return undefined
  const [{ instancePath, message, params }] = fits.errors
  const field = [instancePath.slice(1).replaceAll("/", "."), params.additionalProperty].filter(Boolean).join(".")
  return (field === "" ? "it" : JSON.stringify(field)) + " " + message
}
${looking}`
}

/** Where the bundler finds what a schema is made with: in the folder itself, or else with this service. */
export function schemaLibraries(folder: string): { [name: string]: string } {
  const own = ["joi"].filter((name) => !existsSync(join(resolve(folder), "node_modules", name)))
  return Object.fromEntries(
    ["ajv/dist/2020.js", "ajv-formats", ...own].map((name) => [name, createRequire(import.meta.url).resolve(name)]),
  )
}

/** How the bundle names it. */
export const schemaEntry = `  ${JSON.stringify(inBundle)}: { default: handlers_state },`

/** A state as a release's schema sees it: what is wrong with it, and what it is once migrated. */
export async function lookAtState(
  hosts: CodeRunner,
  state: { [field: string]: unknown },
  migrate: boolean,
): Promise<{ value: { [field: string]: unknown }; migrated: boolean; fault: string | null }> {
  const turn: TurnInput = {
    message: { event: "unknown", place: { address: "", kind: "direct" } },
    messages: [],
    slots: { migrate: migrate ? 1 : 0 },
    state,
    contact: {},
    conversation: { id: "", place: { address: "", kind: "direct" } },
    channel: { key: "", kind: "" },
    again: false,
    now: new Date(0).toISOString(),
  }
  const { outcome } = await hosts.run(inBundle, turn, longest)
  const { value, migrated, fault } = outcome.state as {
    value: { [field: string]: unknown }
    migrated: boolean
    fault: string | null
  }
  return { value, migrated, fault }
}

/** Throws where a new state does not fit, with the field. */
export async function mustFit({ hosts, table }: ReadyRelease, state: { [field: string]: unknown }): Promise<void> {
  const { stateSchema } = table.bot
  if (!hosts || !stateSchema) return
  const { fault } = await lookAtState(hosts, state, false)
  if (fault !== null)
    throw new HandlerFault({ name: "StateFault", message: `the new state does not fit ${stateSchema.file}: ${fault}` })
}
