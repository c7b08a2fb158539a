import { parsePhoneNumberFromString } from "libphonenumber-js/min"
import { decoded } from "../../signature/addresses.ts"
import type { Authorization, Calling, Content } from "../profile.ts"
import { placeholderIn, settingName } from "./placeholders.ts"
import type { Example } from "./request.ts"

/** What a call of an example is for. */
export const sorts = [
  "send",
  "register",
  "unregister",
  "address on record",
  "who am I",
  "fetch from the queue",
  "remove from the queue",
  "attachment",
  "history",
  "one message",
] as const
export type Sort = (typeof sorts)[number]

/** A setting or secret that an example's values turned into. */
export interface Asked {
  name: string
  says: string
  /** What stood there in the example, for settings; a secret's value is never given back. */
  example?: string
}

/** What an example seems to be, as a call of a profile. */
export interface CallProposal {
  sort: Sort
  calling: Calling
  settings: Asked[]
  secrets: Asked[]
  /** What a picture adds, what may be said along, and how numbers are written; only of a call that sends. */
  media?: Content
  extra?: { [name: string]: { says: string; send: Content } }
  digits?: boolean
  names?: boolean
  answer?: string
  /** What stands for what, in words. */
  found: string[]
  /** What stays in it as it stands in the example, in words; only of a call that sends. */
  stays: string[]
  lacks: string[]
  doubts: string[]
}

/** Names under which gateways take and give things; the last step of a place is compared. */
const fieldNames = {
  text: /^(text|body|message|content|msg|sms|caption|message_?(text|body|content)|text_?(message|body)|sms_?(text|message)|conversation)$/i,
  to: /^(to|recipients?|numbers?|phones?|phone_?numbers?|msisdns?|destinations?|dest|dst|address|chat(_?id)?|receivers?|mobiles?|jid|to_?(number|address|phone)|conversation_?id|thread_?id|remote_?jid|peer)$/i,
  from: /^(from|sender|source|src|originator|sender_?(id|address|name|number)|from_?(number|address|phone)|caller_?id|origin)$/i,
  mark: /^((client|external|custom|my|user|partner|local)_?)?(ref(erence)?(_?id)?|correlator|correlation_?id|custom_?(data|id|string)|idempotency_?key|message_?ref|tracking_?id|uuid)$|^(client|external|custom)_?(message_?)?id$|^client_?correlator$/i,
  hook: /(web_?hook|dlr|call_?back|notify|notification|report|delivery|status|hook|inbound|incoming)[\w]*(url|uri|address|endpoint)?$|^(url|uri|endpoint|address|target)$/i,
  key: /^(api_?)?(key|token|secret|password|passwd|pwd|auth(_?token|_?key)?|access_?token|api_?secret|private_?key)$|(api|auth|access|secret).*(key|token|secret)$|^hash$/i,
  account:
    /^(account|user|login|client|app|application|instance|session|device|workspace|project|team|org|organi[sz]ation|box|line|agent)(_?(id|sid|name|key))?$|^username$/i,
  time: /^(time|timestamp|ts|date|sent_?at|created_?at|request_?time)$/i,
  media: /(media|image|file|attachment|picture|photo|document|video|audio)_?(url|uri|link)?s?$/i,
  extra:
    /sim|slot|priority|validity|valid_?for|ttl|expir|flash|route|schedul|send_?at|deliver_?at|tag|campaign|label|category|ttl|quality/i,
} as const

/** Whether a field is called as gateways call such a thing. */
function is(what: keyof typeof fieldNames, key: string): boolean {
  return fieldNames[what].test(key.replaceAll("-", "_"))
}

/** Values that samples of what comes in hold, in which examples of requests are read. */
export interface KnownValues {
  /** Who wrote, and where: whatever a request names the same is the receiver. */
  receivers: string[]
}

/** Names that examples' own values were given, by these: the same value is asked for once. */
type NamesGiven = Map<string, string>

/** What each of several examples seems to be, with one address that all of them begin with. */
export function proposeCalls(
  examples: (Example & { as?: Sort })[],
  known: KnownValues = { receivers: [] },
): {
  base: string
  calls: CallProposal[]
  otherHosts: string[]
} {
  const { base, otherHosts } = baseOf(examples)
  const named: NamesGiven = new Map()
  return { base, otherHosts, calls: examples.map((example) => proposeCall(example, base, known, named)) }
}

/** The part of the address that is the gateway's own: what all examples share, up to its version. */
function baseOf(examples: Example[]): { base: string; otherHosts: string[] } {
  const urls = examples.map(({ url }) => partsOf(url))
  const [first] = urls
  if (!first) return { base: "", otherHosts: [] }
  const shared = first.segments.filter((_one, at) =>
    urls.every(
      (url) =>
        url.origin !== first.origin || first.segments.slice(0, at + 1).every((step, n) => url.segments[n] === step),
    ),
  )
  const version = shared.findLastIndex((step) => /^(v\d+(\.\d+)?|api|rest|gateway|\d{4}-\d\d-\d\d)$/i.test(step))
  const others = [...new Set(urls.map(({ origin }) => origin))].filter((one) => one !== first.origin)
  return { base: [first.origin, ...shared.slice(0, version + 1)].join("/"), otherHosts: others }
}

/** An address as its origin, the steps of its path and its query, without escaping placeholders. */
function partsOf(url: string): { origin: string; segments: string[]; query: [string, string][] } {
  const [, origin = "", path = "", query = ""] = /^(https?:\/\/[^/?#]+)([^?#]*)(?:\?([^#]*))?/i.exec(url) ?? []
  const segments = path.split("/").filter((one) => one !== "")
  return { origin: origin.replace(/^(https?:\/\/)[^/@]*@/i, "$1"), segments, query: [...new URLSearchParams(query)] }
}

interface Draft {
  sort: Sort
  out: CallProposal
  isReceiver(value: string): boolean
  named: NamesGiven
}

function proposeCall(
  example: Example & { as?: Sort },
  base: string,
  { receivers }: KnownValues,
  named: NamesGiven,
): CallProposal {
  const sort = example.as ?? sortOf(example)
  const out: CallProposal = {
    sort,
    calling: { method: example.method as Calling["method"], address: "" },
    settings: [],
    secrets: [],
    found: [],
    stays: [],
    lacks: [...example.lacks],
    doubts: [...example.notes],
    ...(example.answer === undefined ? {} : { answer: example.answer }),
  }
  // Numbers are compared without their signs and spaces; what is too short may be there by chance.
  const plain = (value: string) => value.trim().replace(/^\+|(?<=\d)[ .()-]+(?=\d)/g, "")
  const known = new Set(receivers.map(plain).filter((value) => value.length > 1))
  const draft: Draft = { sort, out, isReceiver: (value) => known.has(plain(value)), named }
  const { query } = partsOf(example.url)
  const authorization = authorizationOf(example, draft)
  const address = addressIn(example.url, base, draft)
  const headers = headersIn(example, draft)
  const leaves = leavesOf(example, query)
  const roles = sort === "send" ? sendRoles(leaves, draft) : new Map<string, string>()
  const body = contentOf(example, roles, draft)
  const inQuery = query.length > 0 ? contentOfPairs(query, roles, draft) : undefined
  const asQuery = body === undefined && inQuery !== undefined
  // A call with a body has only keys and constants in its query: they stay in its address.
  const tail = inQuery && !asQuery ? `?${pairsIn(inQuery).join("&")}` : ""
  const send = body?.send ?? inQuery
  out.calling = {
    method: out.calling.method,
    address: `${address}${tail}`,
    ...(authorization ? { authorization } : {}),
    ...(Object.keys(headers).length > 0 ? { headers } : {}),
    ...(send ? { body: body?.form ?? "query", send } : {}),
  }
  if (sort === "send") lackOf(draft)
  return out
}

function pairsIn(content: Content): string[] {
  return Object.entries(content).map(([name, value]) => {
    const written = String(value)
    return `${encodeURIComponent(name)}=${/^\{\w+\}$/.test(written) ? written : encodeURIComponent(written)}`
  })
}

/** What a call is for, by its method, its path and what it holds. */
function sortOf(example: Example): Sort {
  const { segments, query } = partsOf(example.url)
  const path = segments.join("/").toLowerCase()
  const leaves = leavesOf(example, query)
  const has = (name: keyof typeof fieldNames) => leaves.some(({ key }) => is(name, key))
  const hook = leaves.some(({ key, value }) => is("hook", key) && /^https?:|^[<{$].*(url|address)/i.test(value))
  const about = /web_?hook|call_?back|subscription|endpoint/.test(path)
  const { method } = example
  if (method !== "GET" && method !== "DELETE") {
    if (has("text") && (has("to") || /chats?|conversations?|threads?/.test(path))) return "send"
    if (hook && (about || !has("text"))) return "register"
    return has("text") ? "send" : about ? "register" : "send"
  }
  if (method === "DELETE") {
    if (about) return "unregister"
    return "remove from the queue"
  }
  if (has("text") && has("to")) return "send"
  if (about) return "address on record"
  if (/attachments?|media|files?|download/.test(path)) return "attachment"
  if (/queue|receive|inbox|poll|updates|notifications?|unread/.test(path)) return "fetch from the queue"
  const last = segments.at(-1) ?? ""
  if (/messages?\/[^/]+$|status\/[^/]+$/i.test(path) && (placeholderIn(last) !== undefined || /\d/.test(last)))
    return "one message"
  if (/messages?$|history$/.test(path)) return "history"
  return "who am I"
}

interface Leaf {
  /** Where it stands, from the top, steps joined by slashes. */
  path: string
  /** The last name on the way to it. */
  key: string
  value: string
  text: boolean
}

/** Every value of a call's query and body. */
function leavesOf(example: Example, query: [string, string][]): Leaf[] {
  const { body } = example
  const pairs = (list: [string, string][]) => list.map(([key, value]) => ({ path: key, key, value, text: true }))
  const found = pairs(query)
  if (body?.form === "form" || body?.form === "multipart") found.push(...pairs(body.content))
  else if (body?.form === "json" || body?.form === "xml") walk(body.content, "", "", found)
  return found.slice(0, 300)
}

function walk(value: unknown, path: string, key: string, into: Leaf[], depth = 0): void {
  if (depth > 12 || into.length > 300 || value === null) return
  if (typeof value !== "object") {
    into.push({ path, key, value: String(value as string | number | boolean), text: typeof value === "string" })
    return
  }
  for (const [name, one] of Object.entries(value))
    walk(one, path === "" ? name : `${path}/${name}`, Array.isArray(value) ? key : name, into, depth + 1)
}

/** The telephone number in a value, with what stands around it. */
function numberIn(value: string): { before: string; digits: boolean; after: string } | undefined {
  const found = /^([a-z]{2,10}:)?(\+?[\d][\d ().-]{6,20}\d)(@[\w.-]+)?$/i.exec(value.trim())
  if (!found) return undefined
  const [, before = "", number = "", after = ""] = found
  const bare = number.replace(/[ ().-]/g, "")
  const digits = !bare.startsWith("+")
  const international = digits ? `+${bare.replace(/^00/, "")}` : bare
  if (!parsePhoneNumberFromString(international)?.isPossible() && !(digits && bare.length >= 9)) return undefined
  return { before, digits, after }
}

/** Which leaf is the text, the receiver, ourselves and so on: by its name first, then by what stands there. */
function sendRoles(leaves: Leaf[], draft: Draft): Map<string, string> {
  const { out } = draft
  const roles = new Map<string, string>()
  const best = (score: (leaf: Leaf) => number) => {
    const [first] = leaves
      .filter(({ path }) => !roles.has(path))
      .map((leaf) => ({ leaf, score: score(leaf) }))
      .filter((one) => one.score > 0)
      .sort((a, b) => b.score - a.score)
    return first?.leaf
  }
  const says = (leaf: Leaf, what: string) => out.found.push(`${leaf.path} is ${what}`)
  const saysWords = (value: string) => (/\S\s\S/.test(value) && !/^https?:/.test(value) ? 3 : 0)
  const text = best(
    ({ key, value, text }) =>
      (is("text", key) && text && !numberIn(value) && !draft.isReceiver(value) ? 4 : 0) +
      (key === "body" || key === "text" || key === "content" ? 0.5 : 0) +
      (text ? saysWords(value) : 0) -
      // What is no word, such as an id, is hardly ever said.
      (isOpaque(value) || /=$/.test(value) ? 3 : 0) -
      (/subject|title|name|type/i.test(key) ? 4 : 0),
  )
  if (text) {
    roles.set(text.path, "{text}")
    says(text, "the text")
  }
  const from = best(({ key }) => (is("from", key) ? 5 : 0))
  if (from) {
    const number = numberIn(from.value)
    roles.set(from.path, number ? `${number.before}{number}${number.after}` : "{number}")
    says(from, "our own number or name")
  }
  const to = best(
    ({ key, value, path }) =>
      (is("to", key) ? 4 : 0) +
      (numberIn(value) ? 3 : 0) +
      (draft.isReceiver(value) && isTelling({ value, path }) ? 8 : 0),
  )
  const asReceiver = (leaf: Leaf) => {
    const number = numberIn(leaf.value)
    roles.set(leaf.path, number ? `${number.before}{to}${number.after}` : "{to}")
    return number
  }
  if (to) {
    const number = asReceiver(to)
    if (number?.digits) out.digits = true
    if (!number && placeholderIn(to.value) === undefined) out.names = true
    if (/chat|conversation|thread|jid|peer/i.test(to.key) && !number) out.names = true
    says(to, "the receiver")
  }
  for (const leaf of leaves) {
    if (roles.has(leaf.path)) continue
    if ((leaf.value === to?.value || draft.isReceiver(leaf.value)) && isTelling(leaf)) {
      // Some gateways want it in two places.
      asReceiver(leaf)
      says(leaf, "the receiver, too")
    } else if (is("mark", leaf.key)) {
      roles.set(leaf.path, "{mark}")
      says(leaf, "a reference: our own name for the call")
    } else if (/^https?:/.test(leaf.value) && is("media", leaf.key)) {
      roles.set(leaf.path, "{media}")
      says(leaf, "a picture's or file's address")
    } else if (/^https?:/.test(leaf.value) && is("hook", leaf.key)) {
      roles.set(leaf.path, "{inlet}")
      says(leaf, "where reports go: our address")
    } else if (is("time", leaf.key)) {
      roles.set(leaf.path, /^\d{13}$/.test(leaf.value) ? "{now:ms}" : /^\d+$/.test(leaf.value) ? "{now}" : "{now:iso}")
      says(leaf, "the time of the call")
    } else if (is("extra", leaf.key) && !leaf.path.includes("/")) {
      const name = settingName(leaf.key)
      out.extra = { ...out.extra, [name]: { says: leaf.key, send: { [leaf.key]: "{value}" } } }
      roles.set(leaf.path, "")
      out.found.push(`${leaf.path} may be said along with a message, as the extra ${name}`)
    }
  }
  return roles
}

function lackOf({ out }: Draft): void {
  const written = JSON.stringify(out.calling)
  if (!written.includes("{text}")) out.lacks.push("none of its values looks like the text: name its place")
  if (!/\{to(:number)?\}/.test(written)) out.lacks.push("none of its values looks like the receiver: name its place")
}

/** A value of the example as it stands in the profile: a placeholder for what is the reader's own, else as it was. */
function valueOf(leaf: Leaf, roles: Map<string, string>, draft: Draft): string | undefined {
  const value = wordOf(leaf, roles, draft)
  // Where the example has a number, so has the call.
  const isNumber = !leaf.text && /^-?\d+$/.test(leaf.value) && value !== "{mark}"
  return isNumber ? value?.replace(/^\{([\w:]+)\}$/, "{$1:number}") : value
}

function wordOf(leaf: Leaf, roles: Map<string, string>, draft: Draft): string | undefined {
  const { out, sort } = draft
  const role = roles.get(leaf.path)
  if (role !== undefined) return role
  const named = placeholderIn(leaf.value)
  if (is("key", leaf.key) || (named !== undefined && /key|token|secret|passw/i.test(named)))
    return secret(draft, leaf.key, named, leaf.value)
  const isAddress = /^https?:\/\//i.test(leaf.value)
  if (sort === "register" && (isAddress || (named !== undefined && is("hook", leaf.key)))) {
    // The example's own address would be registered as it stands, and somebody else would be called.
    if (notCalled.test(leaf.key)) return setting(draft, leaf.key, leaf.value)
    out.found.push(`${leaf.path} is our address`)
    return "{inlet}"
  }
  if (named !== undefined) return setting(draft, named, leaf.value)
  if (is("account", leaf.key)) return setting(draft, leaf.key, leaf.value)
  return undefined
}

/** Fields of a registration that hold an address which nobody calls. */
const notCalled = /logo|icon|image|avatar|picture|web_?site|home_?page|terms|privacy|redirect|docs?(_|$)|origin/i

/**
 * Whether a step of a path is a key: long, and letters and digits change again and again, as they do in what is made at
 * random. UUIDs are ids.
 */
function isRandom(text: string): boolean {
  if (!/^[\w.:~+=-]{20,}$/.test(text) || /^[0-9a-f]{8}-[0-9a-f]{4}-/i.test(text)) return false
  return (text.match(/\d+/g) ?? []).length >= 3 && (text.match(/[a-z]+/gi) ?? []).length >= 3
}

function secret({ out, named: given }: Draft, key: string, named: string | undefined, value: string): string {
  const name = nameFor(settingName(named ?? key), named === undefined ? value : "", given)
  const known = out.secrets.find((one) => one.name === name)
  if (!known) {
    out.secrets.push({ name, says: `${key}: the key for its calls` })
    out.found.push(key === name ? `${key} is a secret` : `${key} is the secret ${name}`)
  }
  return `{${name}}`
}

/**
 * The name for what an example holds: one that the same value has already, or another of the same meaning, such as
 * `sessionId` beside `session`. Values that are short, or usual, may be the same by chance.
 */
function nameFor(wanted: string, value: string, given: NamesGiven): string {
  const stem = (name: string) => name.replace(/(Id|Sid|Name)$/, "").toLowerCase()
  // A user's name and a user's id are two things.
  const isAlike = (name: string) =>
    stem(name) === stem(wanted) && [name, wanted].some((one) => one.toLowerCase() === stem(one))
  const alike = given.has(`{${wanted}}`) ? wanted : [...given.values()].find(isAlike)
  const telling = value.length >= 3 && placeholderIn(value) === undefined && !/^(true|false|\d{1,3})$/.test(value)
  const same = telling ? given.get(value) : undefined
  const name = same ?? (telling ? undefined : alike) ?? wanted
  given.set(telling ? value : `{${name}}`, name)
  return name
}

function setting({ out, named: given }: Draft, key: string, example: string): string {
  const wanted = settingName(key)
  const isAccount = is("account", wanted)
  const name = isAccount ? nameFor(wanted, example, given) : wanted
  const taken = ["number", "to", "from", "text"].includes(name)
  if (name === "number" || name === "from") return "{number}"
  if (name === "to") return "{to}"
  if (name === "text") return "{text}"
  if (!taken && !out.settings.some((one) => one.name === name)) {
    const shown = placeholderIn(example) === undefined ? { example: example.slice(0, 100) } : {}
    out.settings.push({ name, says: key.replace(/[_-]+/g, " "), ...shown })
    out.found.push(`${key} is the setting ${name}`)
  }
  return `{${name}}`
}

function authorizationOf(example: Example, draft: Draft): Authorization | undefined {
  const { headers } = example
  const given = headers.authorization
  const login = /^https?:\/\/([^/@:]+)(?::([^/@]*))?@/i.exec(example.url)
  const basic =
    example.basic ??
    (login ? ([decoded(login[1]!), decoded(login[2] ?? "")] as [string, string]) : undefined) ??
    basicIn(given)
  if (basic) {
    const [user, password] = basic
    // A name alone is a key.
    if (password === "") return { basic: [secret(draft, "apiKey", placeholderIn(user), user).slice(1, -1), ""] }
    const named = placeholderIn(user)
    const isKey = named !== undefined && /key|secret|token/i.test(named)
    const name = isKey
      ? secret(draft, "apiKey", named, user).slice(1, -1)
      : setting(draft, named ?? "accountId", user).slice(1, -1)
    return { basic: [name, secret(draft, "apiSecret", placeholderIn(password), password).slice(1, -1)] }
  }
  const bearer = /^Bearer\s+(\S.*)$/i.exec(given ?? "")?.[1]
  if (bearer === undefined) return undefined
  return { bearer: secret(draft, "apiKey", placeholderIn(bearer), bearer).slice(1, -1) }
}

function basicIn(given: string | undefined): [string, string] | undefined {
  const encoded = /^Basic\s+(\S.*)$/i.exec(given ?? "")?.[1]
  if (encoded === undefined) return undefined
  const text = Buffer.from(encoded, "base64").toString("utf8")
  // Documentation writes a placeholder where the encoded pair belongs.
  if (!/^[\x20-\x7e]+$/.test(text) || text.indexOf(":") < 1) return ["accountId", "apiSecret"]
  const [user = "", ...rest] = text.split(":")
  return [user, rest.join(":")]
}

/** Headers that say nothing a call of ours needs said. */
const usual =
  /^(host|content-type|content-length|accept(-.*)?|user-agent|connection|cookie|origin|referer|sec-.*|cache-control|pragma|dnt|authorization|te|priority|upgrade-insecure-requests|x-requested-with)$/

function headersIn(example: Example, draft: Draft): { [name: string]: string } {
  const headers: { [name: string]: string } = {}
  for (const [name, value] of Object.entries(example.headers)) {
    const scheme = name === "authorization" && !/^(basic|bearer)\s/i.test(value) ? /^(\S+)\s+\S/.exec(value)?.[1] : ""
    if (usual.test(name) && (name !== "authorization" || /^(basic|bearer)\s/i.test(value))) continue
    const named = placeholderIn(value)
    if (/idempotency|request-id|correlation/.test(name)) headers[name] = "{mark}"
    else if (name === "authorization") {
      const key = value.replace(/^\S+\s+/, "")
      headers[name] = `${scheme ? `${scheme} ` : ""}${secret(draft, "apiKey", placeholderIn(key), key)}`
    } else if (/key|token|secret|auth|password/.test(name)) headers[name] = secret(draft, name, named, value)
    else if (named !== undefined || is("account", settingName(name)))
      headers[name] = setting(draft, named ?? name, value)
    else headers[name] = value
  }
  return headers
}

/** Things in whose path the next step is whom a message is for, whatever that looks like. */
const receivers =
  /^(chats?|conversations?|threads?|rooms?|contacts?|groups?|peers?|recipients?|receivers?|dialog(ue)?s?|tickets?|subscribers?|customers?|to)$/i
/** Steps of a path that say what is done, and name nothing. */
const actions =
  /^(messages?|msgs?|sms|mms|send([_-]?\w{1,20})?|texts?|media|files?|attachments?|new|create|add|post|push|repl(y|ies)|comments?|search|bulk|batch|all|outbound|inbound|api|v\d+(\.\d+)?)(\.(json|xml|php))?$/i

/** Others that follow the name of a thing instead of one of them: `/device/status` has no device "status". */
const deeds =
  /^((get|set|find|fetch|receive|list|update|delete|check|read|show|start|stop|re?start|connect|disconnect|log_?(in|out))([_-]?\w{1,20})?|status|state|info|me|self|qr(_?code)?|web_?hooks?|settings|profile|connection_?state|ping|health|history)$/i

/** Whether a field is called as whom a message is for, or as the place they are in. */
function isPlaceOfReceiver(key: string): boolean {
  return is("to", key) || receivers.test(key)
}

/** Whether a value that is the receiver's is so on purpose: what is short may be the same by chance. */
function isTelling({ value, path }: { value: string; path: string }): boolean {
  return value.length >= 4 || path.split("/").some(isPlaceOfReceiver)
}

/** Things of a message whose next step is the name of one of them. */
const attachments = /^(attachments?|media|files?|downloads?|documents?|images?|voices?|blobs?)$/i

/** Things in whose path the next step is the name of one of them. */
const collections =
  /^(accounts?|instances?|sessions?|devices?|boxes|box|projects?|workspaces?|users?|apps?|lines?|numbers?|phones?|teams?|organi[sz]ations?|bots?|clients?|services?|tenants?)$/i

function addressIn(url: string, base: string, draft: Draft): string {
  const { origin, segments } = partsOf(url)
  const own = [origin, ...segments].join("/")
  const inside = own.startsWith(base) ? own.slice(base.length).split("/").filter(Boolean) : segments
  const root = own.startsWith(base) ? "{apiBase}" : origin
  let ids = 0
  // Of several places the last is the one that is meant, unless a sample says which.
  const places = inside.flatMap((step, at) => {
    const text = decoded(step)
    return draft.isReceiver(text) || (receivers.test(inside[at - 1] ?? "") && !actions.test(text)) ? [at] : []
  })
  const surest = places.filter((at) => draft.isReceiver(decoded(inside[at]!)))
  const receiver = draft.sort === "send" ? (surest.at(-1) ?? places.at(-1)) : undefined
  const path = inside.map((step, at) => {
    const before = inside[at - 1] ?? ""
    const text = decoded(step)
    const named = placeholderIn(text)
    const opaque = named === undefined && isOpaque(text)
    const { sort } = draft
    if (receiver !== undefined && (at === receiver || text === decoded(inside[receiver]!)) && !actions.test(text)) {
      if (!numberIn(text)) draft.out.names = true
      draft.out.found.push(`${before}/… in the address is the receiver`)
      return "{to}"
    }
    if (sort === "attachment" && attachments.test(before) && !actions.test(text)) return "{attachment}"
    if (sort === "attachment" && /^messages?$/i.test(before) && !attachments.test(text))
      return ids++ === 0 ? "{message}" : "{attachment}"
    const isPlace = sort === "send" && places.includes(at)
    const isOwn = opaque || isPlace || isRandom(text) || /^(bearer|(api_?)?keys?|tokens?|secrets?)$/i.test(before)
    const isAction = named === undefined && !opaque && (actions.test(text) || deeds.test(text))
    if (named === undefined && !isOwn && (!collections.test(before) || isAction)) return step
    if (named !== undefined && /key|token|secret|passw/i.test(named)) return secret(draft, named, named, text)
    const isKey = /^(bearer|(api_?)?key|(access_?|auth_?)?token|secret)s?$/i.test(before)
    if (isKey || (isRandom(text) && !isPlace && (!collections.test(before) || /^bots?$/i.test(before))))
      return secret(draft, isKey ? before : "token", named, text)
    if (collections.test(before) && !is("to", before)) return setting(draft, named ?? `${singular(before)}Id`, text)
    if (sort === "attachment") return ids++ === 0 && /messages?/i.test(before) ? "{message}" : "{attachment}"
    if (sort === "remove from the queue" && at === inside.length - 1) return "{handle}"
    if (sort === "one message") return "{mark}"
    if (sort === "send") {
      if (receiver === undefined && is("to", named ?? "")) {
        draft.out.names = !numberIn(text)
        draft.out.found.push(`${before}/… in the address is the receiver`)
        return "{to}"
      }
      const number = /^tel[:%]/i.test(text) || numberIn(text)
      if (number) return /^tel/i.test(text) ? "{sender}" : "{number}"
    }
    return setting(draft, named ?? `${singular(before) || "account"}Id`, text)
  })
  return [root, ...path].join("/")
}

function singular(word: string): string {
  return word.replace(/es$/i, (end) => (/xes$/i.test(word) ? "" : end.slice(0, 1))).replace(/s$/i, "")
}

/** A step of a path that is no word: a number, or a mix of letters and digits. */
function isOpaque(step: string): boolean {
  return (
    /^\d{5,}$/.test(step) ||
    /^[0-9a-f]{8}-[0-9a-f]{4}-/i.test(step) ||
    /^tel:/i.test(step) ||
    (/^(?=.*\d)(?=.*[a-z])[\w-]{8,}$/i.test(step) && !/^v\d/i.test(step))
  )
}

function contentOf(
  example: Example,
  roles: Map<string, string>,
  draft: Draft,
): { form: "json" | "xml" | "form" | "multipart"; send: Content } | undefined {
  const { body } = example
  if (!body) return undefined
  if (body.form === "text") {
    draft.out.lacks.push("its body is plain text, which no profile writes")
    return undefined
  }
  if (body.form === "multipart") {
    return { form: "multipart", send: contentOfPairs(body.content, roles, draft) }
  }
  if (body.form === "form") return { form: "form", send: contentOfPairs(body.content, roles, draft) }
  const send = contentIn(body.content, "", "", roles, draft)
  if (typeof send !== "object" || send === null) return undefined
  if (Array.isArray(send)) {
    draft.out.lacks.push("its body is a list, which no profile writes: is there a call for one message?")
    return undefined
  }
  return { form: body.form, send: send as Content }
}

function contentOfPairs(pairs: [string, string][], roles: Map<string, string>, draft: Draft): Content {
  const send: Content = {}
  for (const [name, value] of pairs) put(send, name, value, { path: name, key: name, value, text: true }, roles, draft)
  return send
}

/** Puts a value in its place; a picture's address is what pictures add, an extra is said only on demand. */
function put(into: Content, name: string, value: unknown, leaf: Leaf, roles: Map<string, string>, draft: Draft): void {
  const role = roles.get(leaf.path)
  if (role === "") return
  if (role === "{media}" && !leaf.path.includes("/")) {
    draft.out.media = { ...draft.out.media, [name]: "{media}" }
    return
  }
  into[name] = valueOf(leaf, roles, draft) ?? kept(value, leaf, draft)
}

/** Values of an example that are named as staying. */
const mostKept = 20

/** A value that stays as the example has it: whoever agrees should see that it is the same for everybody. */
function kept(value: unknown, { path, value: shown }: Leaf, { sort, out }: Draft): unknown {
  if (sort === "send" && out.stays.length < mostKept) out.stays.push(`${path} is always ${shown.slice(0, 60)}`)
  return value
}

function contentIn(value: unknown, path: string, key: string, roles: Map<string, string>, draft: Draft): unknown {
  if (Array.isArray(value))
    // One of a list of receivers stands for all of them.
    return value
      .slice(0, value.every((one) => typeof one === "object") ? 1 : undefined)
      .map((one, at) => contentIn(one, `${path}/${at}`, key, roles, draft))
      .filter((one, at) => !(at > 0 && typeof one === "string" && numberIn(one)))
  if (typeof value !== "object" || value === null) {
    const leaf = { path, key, value: String(value), text: typeof value === "string" }
    return valueOf(leaf, roles, draft) ?? kept(value, leaf, draft)
  }
  const out: Content = {}
  for (const [name, one] of Object.entries(value)) {
    const inner = path === "" ? name : `${path}/${name}`
    if (typeof one === "object" && one !== null) out[name] = contentIn(one, inner, name, roles, draft)
    else
      put(out, name, one, { path: inner, key: name, value: String(one), text: typeof one === "string" }, roles, draft)
  }
  return out
}
