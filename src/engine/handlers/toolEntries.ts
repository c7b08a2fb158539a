import { resolve } from "node:path"
import type { ToolDescription } from "../../core/model/model.ts"
import type { CodeRunner, TurnInput, Keeping } from "./handler.ts"
import { HandlerFault } from "./handler.ts"

/** Under what name the bundle has a tool; a handler's file cannot be named so. */
const inBundle = (tool: string) => `tool ${tool}`

/** What a bundle imports for its tools. */
export function toolImports(tools: Map<string, string>): string[] {
  if (tools.size === 0) return []
  return [
    ...[...tools.values()].map((file, at) => `import t${at} from ${JSON.stringify(resolve(file))}`),
    'import { Ajv2020 as ToolAjv } from "ajv/dist/2020.js"',
    'import addToolFormats from "ajv-formats"',
    asHandler,
  ]
}

/** Each tool as a handler: what it is called with is looked at by its schema first, in the host, where nothing else waits. */
const asHandler = `
const asTool = (name, tool) => {
  if (typeof tool?.run !== "function") throw new TypeError("tools/" + name + ": its default export is no tool: write export default tool({ description, parameters, run })")
  if (typeof tool.description !== "string" || tool.description === "") throw new TypeError("tools/" + name + ": it has no description, by which a model knows what it is for")
  const parameters = tool.parameters ?? { type: "object", properties: {} }
  let fits
  try {
    fits = addToolFormats(new ToolAjv({ strict: false })).compile(parameters)
  } catch (error) {
    throw new TypeError("tools/" + name + ": its parameters are no JSON Schema: " + error.message)
  }
  return async ({ slots, ...turn }) => {
    if (slots.describe === 1) return { state: { description: tool.description, parameters } }
    let given
    try {
      given = JSON.parse(slots.arguments || "{}")
    } catch {
      return { state: { fault: "what it is called with is no JSON" } }
    }
    if (!fits(given)) {
      const [{ instancePath, message, params }] = fits.errors
      const field = [instancePath.slice(1).replaceAll("/", "."), params.additionalProperty].filter(Boolean).join(".")
      return { state: { fault: (field === "" ? "it" : field) + " " + message } }
    }
    const value = await tool.run(given, turn)
    return { state: { value: value === undefined ? null : JSON.parse(JSON.stringify(value)) } }
  }
}`

/** How a bundle names its tools. */
export function toolEntries(tools: Map<string, string>): string[] {
  return [...tools.keys()].map(
    (name, at) => `  ${JSON.stringify(inBundle(name))}: { default: asTool(${JSON.stringify(name)}, t${at}) },`,
  )
}

/** Milliseconds until a tool has said what it is. */
const toDescribe = 5000

/** What a tool of a release is, as a model is told. */
export async function describeTool(hosts: CodeRunner, name: string, turn: TurnInput): Promise<ToolDescription> {
  const { outcome } = await hosts.run(inBundle(name), { ...turn, slots: { describe: 1 } }, toDescribe)
  const { description, parameters } = outcome.state as unknown as Omit<ToolDescription, "name">
  return { name, description, parameters }
}

/** What a tool gave, or what was wrong with how it was called, or with itself. */
export type ToolGave = { value: unknown; log: string[] } | { fault: string; log: string[] }

/** Runs a tool of a release. */
export async function runTool(
  hosts: CodeRunner,
  tool: { name: string; arguments: string },
  turn: TurnInput,
  how: { deadline: number; keeping: Keeping; secrets: { readonly [name: string]: string } },
): Promise<ToolGave> {
  const input = { ...turn, slots: { arguments: tool.arguments } }
  try {
    const { outcome, log } = await hosts.run(inBundle(tool.name), input, how.deadline, how.keeping, how.secrets)
    return { ...(outcome.state as { value: unknown } | { fault: string }), log }
  } catch (error) {
    if (!(error instanceof HandlerFault)) throw error
    return { fault: `it failed: ${error.error.message}`, log: error.log }
  }
}
