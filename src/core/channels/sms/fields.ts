import { isObject } from "../../message/json.ts"
import type { Where } from "./profile.ts"

/** A call's content as a profile looks at it: the fields of a form, or a JSON value. */
export type Source = { form: URLSearchParams } | { json: unknown }

/** `{name}` in a template becomes the value; what is not known stays out. */
export function fillTemplate(template: string, values: { [name: string]: unknown }): string {
  return template.replace(/\{(\w+)\}/g, (_whole, name: string) => {
    const value = values[name]
    return typeof value === "string" || typeof value === "number" ? String(value) : ""
  })
}

/** What stands at a place, of several the first that is there; empty text counts as absent. */
export function at(source: Source, where: Where | undefined, settings: { [name: string]: unknown }): unknown {
  for (const one of where === undefined ? [] : Array.isArray(where) ? where : [where]) {
    const place = fillTemplate(one, settings)
    const found = "form" in source ? source.form.get(place) : pointedAt(source.json, place)
    if (found !== undefined && found !== null && found !== "") return found
  }
  return undefined
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
