import type Joi from "joi"
import { nearest } from "../gateway/nearest.ts"

import { conditionNames } from "./condition.ts"

import type { Route } from "./bot.ts"
import { rewriteRemedy } from "./botSchema.ts"

/** Whether a `when` is missing because it stands there under its earlier name. */
export function isRenamed({ type, path }: Joi.ValidationErrorItem, all: Joi.ValidationErrorItem[]): boolean {
  const [, at, name] = path
  return type === "any.required" && name === "when" && all.some((one) => one.path[1] === at && one.path[2] === "meets")
}

/** What may be written where something unknown stands. */
function namesAt(path: (string | number)[], ofHandler: string[]): string[] {
  const within = (name: string, names: string[]) => (path.includes(name) ? names : undefined)
  if (path[0] === "routes")
    return (
      within("attachment", ["type", "least", "most"]) ??
      (path.at(-2) === "place" ? ["is", "kind"] : undefined) ??
      (path.at(-2) === "said" ? ["least", "most"] : undefined) ??
      within("when", conditionNames) ??
      within("handler", ofHandler) ??
      routeNames
    )
  const inside: { [name: string]: string[] } = {
    hours: path.length > 3 ? ["mon", "mon-fri", "daily"] : ["zone", "open", "closed", "other"],
    groups: ["otherwise", "channels", "places"],
    only: ["places", "channels"],
    unrouted: ["place", "language", "handler"],
    account: ["name", "about", "description", "commands", "picture"],
  }
  return path.length > 1 ? (inside[String(path[0])] ?? topNames) : topNames
}

/** @param ofHandler what may be written for a handler of the kind that stands there */
export function inWords(detail: Joi.ValidationErrorItem, ofHandler: string[] = []): { says: string; remedy?: string } {
  const name = detail.path.at(-1)
  switch (detail.type) {
    case "object.unknown": {
      if (name === "meets" && detail.path.length === 3)
        return { says: '"meets" is named "when" now', remedy: `Write "when". ${rewriteRemedy}` }
      const known = namesAt(detail.path, ofHandler)
      const near = nearest(String(name), known)
      return {
        says: `"${name}" is not known here`,
        remedy: near ? `Write ${near}.` : `Write one of: ${known.join(", ")}.`,
      }
    }
    case "any.required":
      return {
        says: `"${name}" is missing`,
        remedy: detail.path[0] === "routes" ? "A route has name, when and handler." : `Add "${name}: …".`,
      }
    case "any.only":
    case "alternatives.types": {
      const known = ((detail.context?.valids ?? detail.context?.types) as unknown[]).filter(
        (valid) => valid !== "array",
      )
      const near = nearest(String(detail.context?.value), known.map(String))
      return {
        says: `"${detail.context?.value}" is not known here`,
        remedy: near ? `Write ${near}.` : `Write one of: ${known.join(", ")}.`,
      }
    }
    case "array.unique":
      return {
        says: `two routes have the name "${(detail.context?.value as Route).name}"`,
        remedy: "Give each route a name of its own.",
      }
    case "object.min":
      return { says: "the condition is empty", remedy: `Write one of: ${conditionNames.join(", ")}.` }
    case "custom":
      return {
        says: String(detail.context?.says ?? detail.message),
        ...(typeof detail.context?.remedy === "string" ? { remedy: detail.context.remedy } : {}),
      }
    case "string.uriCustomScheme":
    case "string.uri":
      return {
        says: `"${String(name)}" is no whole address of the web`,
        remedy: "Write one such as https://office.example/times.",
      }
    default:
      return { says: detail.message.replace(`"${String(detail.context?.label)}"`, `"${name}"`) }
  }
}

const topNames = [
  ...[
    "bot",
    "gather",
    "turnsPerMinute",
    "deadline",
    "zone",
    "language",
    "country",
    "rules",
    "hours",
    "texts",
    "groups",
  ],
  ...["only", "routes", "unrouted", "account"],
]
const routeNames = ["name", "when", "handler", "deadline", "tries"]
