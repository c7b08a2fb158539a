import type { InboundCall } from "../channels/call.ts"
import { isObject } from "../message/json.ts"
import type { Conditions, Where } from "./profile.ts"

/** A call's content as a profile looks at it: the fields of a form, or a JSON value. */
export type Source = { form: { [name: string]: string } } | { json: unknown }

/** The fields of a form; of one that comes twice, the first. */
export function formFields(pairs: Iterable<[string, string]>): { [name: string]: string } {
  const fields = Object.create(null) as { [name: string]: string }
  for (const [name, value] of pairs) fields[name] ??= value
  return fields
}

/** A form's fields in their order, read once for verifying and parsing. */
export function fieldsIn(call: InboundCall): [name: string, value: string][] {
  let fields = known.get(call.body)
  if (!fields) known.set(call.body, (fields = [...new URLSearchParams(Buffer.from(call.body).toString("utf8"))]))
  return fields
}

const known = new WeakMap<Uint8Array, [string, string][]>()

/** `{name}` in a template becomes the value; what is not known stays out. */
export function fillTemplate(template: string, values: { [name: string]: unknown }): string {
  if (!template.includes("{")) return template
  return template.replace(/\{(\w+)\}/g, (_whole, name: string) => {
    const value = values[name]
    return typeof value === "string" || typeof value === "number" ? String(value) : ""
  })
}

/** What stands at a place, of several the first that is there; empty text counts as absent. */
export function at(source: Source, where: Where | undefined, settings: { [name: string]: unknown }): unknown {
  if (where === undefined) return undefined
  if (typeof where === "string") return foundAt(source, where, settings)
  for (const one of where) {
    const found = foundAt(source, one, settings)
    if (found !== undefined) return found
  }
  return undefined
}

function foundAt(source: Source, where: string, settings: { [name: string]: unknown }): unknown {
  const place = fillTemplate(where, settings)
  const found = "form" in source ? source.form[place] : pointedAt(source.json, place)
  return found === null || found === "" ? undefined : found
}

export function textAt(
  source: Source,
  where: Where | undefined,
  settings: { [name: string]: unknown },
): string | undefined {
  const found = at(source, where, settings)
  if (typeof found === "string") return found
  return typeof found === "number" && Number.isFinite(found) ? String(found) : undefined
}

/** As `textAt`, also where a yes or no stands there: "true" and "false". */
export function wordAt(
  source: Source,
  where: Where | undefined,
  settings: { [name: string]: unknown },
): string | undefined {
  const found = at(source, where, settings)
  return typeof found === "boolean" ? String(found) : textAt(source, where, settings)
}

/** JSON Pointer, RFC 6901. A name without a slash is taken for a field of the top. */
export function pointedAt(json: unknown, pointer: string): unknown {
  if (pointer === "") return json
  const steps = (pointer.startsWith("/") ? pointer.slice(1) : pointer).split("/")
  let found = json
  for (const step of steps) {
    const name = step.replaceAll("~1", "/").replaceAll("~0", "~")
    if (Array.isArray(found)) found = /^\d+$/.test(name) ? (found as unknown[])[Number(name)] : undefined
    else if (isObject(found) && Object.hasOwn(found, name)) found = found[name]
    else return undefined
  }
  return found
}

/** Whether what stands at a place is one of the values. */
export function holds(
  source: Source,
  where: string,
  values: Conditions[string],
  settings: { [name: string]: unknown },
): boolean {
  const found = at(source, where, settings)
  if (found === undefined) return false
  const all = Array.isArray(found) ? (found as unknown[]).slice(0, mostValues) : [found]
  return values.some((value) =>
    value === "{number}"
      ? all.some((one) => isSameNumber(String(one), settings.number))
      : all.some((one) => typeof one !== "object" && written(value, settings) === String(one)),
  )
}

/** A condition's value, which may be a setting's, such as `{accountId}`. */
function written(value: string | number | boolean, settings: { [name: string]: unknown }): string {
  return typeof value === "string" ? fillTemplate(value, settings) : String(value)
}

/** Values of a list that are looked at. */
const mostValues = 1000

/** Whether a value is this number, however either is written, or the same name. */
export function isSameNumber(value: string, number: unknown): boolean {
  if (typeof number !== "string" || number === "") return false
  const digits = (text: string) =>
    text
      .replace(/@[\w.]+$/, "")
      .replace(/\D/g, "")
      .replace(/^00/, "")
  return value === number || (digits(number).length > 5 && digits(value) === digits(number))
}

/** Whether any of the places has one of its values. */
export function anyHolds(
  source: Source,
  conditions: Conditions | undefined,
  settings: { [name: string]: unknown },
): boolean {
  return Object.entries(conditions ?? {}).some(([where, values]) => holds(source, where, values, settings))
}

/** Whether each of the places has one of its values. */
export function allHold(
  source: Source,
  conditions: Conditions | undefined,
  settings: { [name: string]: unknown },
): boolean {
  return Object.entries(conditions ?? {}).every(([where, values]) => holds(source, where, values, settings))
}
