import type Joi from "joi"
import type { Document, LineCounter } from "yaml"
import { readYaml } from "../message/yaml.ts"
import type { Finding } from "./inconsistencies.ts"
import { inconsistencies } from "./inconsistencies.ts"
import { nearest } from "./nearest.ts"
import type { Profile, ProfileFault } from "./profile.ts"
import { profileSchema } from "./profileSchema.ts"

type Path = Finding["path"]

/**
 * Reads a profile, or says for each fault on which line it stands, in which field, and what would be right.
 *
 * @param kept whether it is on record already, and was taken under the rules of its time
 */
export function readProfile(source: string, { kept = false } = {}): { profile: Profile } | { faults: ProfileFault[] } {
  const read = readYaml(source)
  const { lines } = read
  if ("faults" in read) {
    return {
      faults: read.faults.map(({ at, ...words }) => ({
        line: Math.max(1, lines.linePos(at).line),
        field: "",
        ...words,
      })),
    }
  }
  const { document } = read
  const { error, value } = profileSchema.validate(read.value, { abortEarly: false })
  const findings = error ? error.details.map((detail) => findingOf(detail)) : inconsistencies(value as Profile, kept)
  if (findings.length === 0) return { profile: value as Profile }
  return {
    faults: findings
      .map(({ path, ...rest }) => ({ line: lineOf(document, lines, path), ...rest }))
      .sort((a, b) => a.line - b.line),
  }
}

function lineOf(document: Document, lines: LineCounter, path: Path): number {
  for (let length = path.length; length > 0; length--) {
    const parent = (length === 1 ? document.contents : document.getIn(path.slice(0, length - 1), true)) as
      { items?: { key?: { value?: unknown; range?: [number, number, number] } }[] } | undefined
    const key = parent?.items?.find((item) => item.key?.value === path[length - 1])?.key
    const node =
      key ?? (document.getIn(path.slice(0, length), true) as { range?: [number, number, number] } | undefined)
    if (node?.range) return lines.linePos(node.range[0]).line
  }
  return 1
}

/** What Joi found, in words that say what would be right. */
function findingOf(detail: Joi.ValidationErrorItem): Finding {
  const { path, type } = detail
  const context = detail.context ?? {}
  const field = path.join(".")
  const last = String(path.at(-1) ?? "")
  const at = { path, field }
  switch (type) {
    case "any.required":
      return { ...at, says: `${field} is missing`, remedy: remedyFor(field) }
    case "any.only": {
      const valids = (context.valids as unknown[]).map(String)
      const near = nearest(String(context.value), valids)
      return {
        ...at,
        says: `"${String(context.value)}" is no ${last}`,
        remedy: `Write one of: ${valids.join(", ")}.${near ? ` Was "${near}" meant?` : ""}`,
      }
    }
    case "object.unknown": {
      const parent = field.slice(0, Math.max(0, field.length - last.length - 1)) || "a profile"
      const near = nearest(last, knownFields(path.slice(0, -1)))
      return {
        ...at,
        says: `${parent} has no field "${last}"`,
        remedy: near
          ? `Was "${near}" meant?`
          : `It may have: ${knownFields(path.slice(0, -1)).join(", ") || "nothing of its own"}.`,
      }
    }
    case "object.missing":
    case "object.xor":
      return {
        ...at,
        says: `${field || "the profile"} has ${type === "object.xor" ? "both" : "none"} of ${listOf(context.peers)}`,
        remedy:
          type === "object.xor" ? "Keep one of them." : `Write ${orOf(context.peers)}. ${remedyFor(field)}`.trim(),
      }
    case "string.pattern.base":
      return {
        ...at,
        says: `"${String(context.value)}" cannot be a ${last}`,
        remedy:
          last === "header"
            ? "Write one header's name, such as x-signature."
            : "Use small letters, digits and hyphens, such as harbour-gateway.",
      }
    case "number.min":
    case "number.max":
    case "number.base":
    case "number.integer":
      return { ...at, says: detail.message.replaceAll('"', ""), remedy: `Write ${limitsOf(detail)}.` }
    default:
      return { ...at, says: detail.message.replaceAll('"', ""), remedy: remedyFor(field) }
  }
}

function limitsOf(detail: Joi.ValidationErrorItem): string {
  const limit = String((detail.context as { limit?: unknown } | undefined)?.limit ?? "")
  if (detail.type === "number.min") return `a number of at least ${limit}`
  return detail.type === "number.max" ? `a number of at most ${limit}` : "a number, without a unit"
}

const remedies: { [field: string]: string } = {
  profile: "Give it a name, such as profile: harbour-gateway.",
  title: "Say in a few words what it is, such as title: the harbour's gateway.",
  inbound: "Say what the gateway's calls look like: body, verify and message.",
  "inbound.body": "Write body: json, body: form or body: xml.",
  "inbound.message": "Say where sender and text stand: message: { from: /from, text: /text }.",
  "inbound.message.from": "Say where the sender stands, such as from: /from.",
  "inbound.message.text": "Say where the text stands, such as text: /text.",
  "inbound.handshake.echo": "Name the field that comes back, such as echo: challenge.",
  outbound: "Say how a message is sent: address, body and send.",
  "outbound.address": 'Write where messages are posted, such as address: "{apiBase}/messages".',
  "outbound.send": 'Say what is posted, such as send: { to: "{to}", text: "{text}" }.',
  "inline.within": "Write the seconds the gateway waits for an answer, such as within: 5.",
  "queue.handle": "Say where the handle stands by which one is removed, such as handle: /receipt.",
}

function remedyFor(field: string): string {
  const found = remedies[field]
  if (found) return found
  if (/\.scheme$/.test(field))
    return "Name how calls are proven: word, basic, body, template, address-and-form or sorted-hash."
  if (/verify\.\d+\.secret$/.test(field)) return "Name the secret it is made with, one of those under secrets."
  if (/\.algorithm$/.test(field)) return "Write algorithm: sha256, sha1 or sha512."
  if (/\.encoding$/.test(field)) return "Write encoding: hex or encoding: base64."
  if (/\.says$/.test(field)) return "Say in a few words what it is; it is shown where it is asked for."
  if (/\.header$/.test(field)) return "Name the header it comes in, such as header: x-signature."
  if (/^$/.test(field)) return "A profile needs inbound, outbound, or both: what it brings, and how something is said."
  return "docs/connect-custom.md lists what may stand here."
}

/** The fields a place in a profile may have. */
function knownFields(path: Path): string[] {
  return [...new Set(describedKeys(profileSchema.describe() as Described, path))]
}

interface Described {
  keys?: { [name: string]: Described }
  items?: Described[]
  whens?: { ref?: unknown; is?: Described; then?: Described; otherwise?: Described }[]
  patterns?: { rule: Described }[]
}

function* describedKeys(schema: Described | undefined, path: Path): Generator<string> {
  if (!schema) return
  const [step, ...rest] = path
  if (step === undefined) {
    yield* Object.keys(schema.keys ?? {})
    for (const { then, otherwise } of schema.whens ?? []) yield* Object.keys({ ...then?.keys, ...otherwise?.keys })
    return
  }
  if (typeof step === "number") for (const item of schema.items ?? []) yield* describedKeys(item, rest)
  else {
    if (schema.keys?.[step]) yield* describedKeys(schema.keys[step], rest)
    for (const { rule } of schema.patterns ?? []) yield* describedKeys(rule, rest)
    for (const when of schema.whens ?? []) yield* describedKeys(when.then?.keys?.[step], rest)
  }
}

function listOf(names: unknown): string {
  return Array.isArray(names) ? names.join(" and ") : ""
}

function orOf(names: unknown): string {
  return Array.isArray(names) ? names.join(" or ") : ""
}
