import { stringify } from "yaml"
import type { InboundCall } from "../channels/call.ts"
import { hmacOf, sameDigest, sortedHash } from "../signature/hmac.ts"
import { sameWord } from "../signature/secretWord.ts"
import { contentOf } from "./content.ts"
import { e164 } from "./numbers.ts"
import type { BodyForm, Profile, VerifyScheme } from "./profile.ts"
import { readProfile } from "./readProfile.ts"

/** What a field of a sample may be. */
export const roles = ["from", "text", "id", "time", "name", "place", "media", "mime"] as const
export type FieldRole = (typeof roles)[number]

/** One field of a sample: where it stands, what it holds, and what it is taken for. */
export interface SampleField {
  where: string
  value: string
  role?: FieldRole
}

/** How a sample seems to be proven. */
export interface ProofGuess {
  scheme: VerifyScheme
  /** Whether it was tried with a secret of the channel and matches. */
  certain: boolean
  says: string
}

export interface Proposal {
  body: BodyForm
  fields: SampleField[]
  roles: { [role in FieldRole]?: string }
  /** What tells our own words, which such gateways send back, from other people's. */
  own?: OwnMark
  proofs: ProofGuess[]
  /** What cannot be proposed, in words. */
  lacks: string[]
  /** What was proposed and may be wrong, in words: a person should look. */
  doubts: string[]
}

/** A field that says whose words they are, and the values with which they are our own. */
export interface OwnMark {
  where: string
  values: (string | boolean)[]
}

/** How the reply reaches the gateway. */
export interface Sending {
  address: string
  body: "json" | "form"
  send: { [name: string]: unknown }
  /** The secret that authorises. */
  bearer?: string
  basic?: [string, string]
  headers?: { [name: string]: string }
  /** Where the gateway's answer holds the message's id. */
  id?: string
}

/** What a gateway's check of an address wants to hear back; nothing when the call is no such check. */
export function echoIn(call: InboundCall): string | undefined {
  const query = new URLSearchParams(call.address.split("?")[1] ?? "")
  const name = [...query.keys()].find((key) => /chal+enge|echo/i.test(key))
  return call.method === "GET" && name !== undefined ? (query.get(name) ?? undefined) : undefined
}

/**
 * Reads a sample that nobody has described yet: its fields, which of them are most likely the sender, the text and the
 * rest, and by what the call seems to be proven.
 *
 * @param secrets the channel's: those that match settle how calls are signed
 * @param ownNumber the account's, where it is known: it is never the sender
 */
export function propose(
  call: InboundCall,
  secrets: { [name: string]: string },
  publicBase: string,
  ownNumber?: string,
): Proposal {
  const body = formOf(call)
  const content = contentOf(call, body)
  const lacks: string[] = []
  if ("unreadable" in content)
    return { body, fields: [], roles: {}, proofs: [], lacks: [content.unreadable], doubts: [] }
  const fields =
    "form" in content
      ? Object.entries(content.form)
          .slice(0, mostFields)
          .map(([where, value]) => ({ where, value }))
      : flat(content.json, "")
  const { found, doubts } = rolesIn(fields, ownNumber)
  const own = ownIn(fields)
  if (found.from === undefined) lacks.push("none of the fields looks like a sender: name it")
  if (found.text === undefined) lacks.push("none of the fields looks like a text: name it")
  if (found.id === undefined)
    lacks.push("none of the fields looks like the message's id: without one, a call that is repeated counts as new")
  const byWhere = new Map(Object.entries(found).map(([role, where]) => [where, role as FieldRole]))
  const proofs = [...certainProofs(call, secrets, publicBase, body), ...likelyProofs(call)].filter(
    (one, at, all) => all.findIndex((other) => JSON.stringify(other.scheme) === JSON.stringify(one.scheme)) === at,
  )
  if (proofs.length === 0)
    lacks.push("nothing in the call proves that it is genuine: give the gateway a word to repeat in the address")
  return {
    body,
    fields: fields.map((field) => ({
      ...field,
      ...(byWhere.has(field.where) ? { role: byWhere.get(field.where)! } : {}),
    })),
    roles: found,
    ...(own ? { own } : {}),
    proofs,
    lacks,
    doubts,
  }
}

/** Fields that say whether words are our own, by what gateways call them. */
const ownNames = /^(from_?me|is_?own|own|self|is_?self|is_?echo|echo|outgoing|is_?outgoing|sent_?by_?me|by_?me)$/i
const directionNames = /^(direction|dir|way|flow)$/i

/** What tells our own words: the sample is another person's, so ours have the other value. */
function ownIn(fields: SampleField[]): OwnMark | undefined {
  for (const { where, value } of fields) {
    const last = where.split("/").at(-1)!
    if (ownNames.test(last) && /^(true|false|0|1|yes|no)$/i.test(value))
      return { where, values: /^(0|1)$/.test(value) ? ["1"] : /^(yes|no)$/i.test(value) ? ["yes"] : [true] }
    if (directionNames.test(last) && /^(in|inbound|incoming|received|mo)$/i.test(value))
      return { where, values: ["out", "outbound", "outgoing", "sent", "mt"] }
  }
  return undefined
}

function formOf(call: InboundCall): BodyForm {
  const type = call.headers["content-type"] ?? ""
  const text = Buffer.from(call.body).toString("utf8").trim()
  if (text === "") return "form"
  if (text.startsWith("<")) return "xml"
  if (/^[[{]/.test(text)) return "json"
  return type.includes("json") ? "json" : type.includes("xml") ? "xml" : "form"
}

/** Fields of a sample that are looked at: each is compared with the others. */
const mostFields = 200

/** Every value of a tree with the JSON Pointer to it. */
function flat(value: unknown, where: string, depth = 0): SampleField[] {
  if (value === null || value === undefined || depth > 12) return []
  if (typeof value !== "object") return [{ where, value: String(value as string | number | boolean) }]
  const entries: [string, unknown][] = Array.isArray(value)
    ? value.slice(0, 1).map((one: unknown) => ["0", one])
    : Object.entries(value)
  return entries
    .flatMap(([name, one]) => flat(one, `${where}/${name.replaceAll("~", "~0").replaceAll("/", "~1")}`, depth + 1))
    .slice(0, mostFields)
}

/** How well a name, and a value, fit a role. */
const names: { [role in FieldRole]: RegExp[] } = {
  from: [
    /^(from|sender|msisdn|source|originator|fromusername|from_?number|sender_?id|mobile|phone)$/i,
    /from|sender|author|origin|phone|msisdn|caller|number|^(who|user|person|contact|customer|peer|party)$/i,
  ],
  text: [/^(text|body|message|content|msg|sms|said|words|message_?text|msg_?body)$/i, /text|body|message|content/i],
  id: [
    /^(id|uid|mid|message_?id|msg_?id|message_?sid|uuid|guid|sms_?id|ref|reference|message_?key)$/i,
    /(message|msg|event).*id|_id$|Id$|sid$|^(key|ticket)$/,
  ],
  time: [/^(time|timestamp|ts|date|sent_?at|received_?at|create_?time|created|datetime|at|when)$/i, /time|date|stamp/i],
  name: [
    /^(name|push_?name|profile_?name|sender_?name|display_?name|full_?name|nick_?name|username|contact_?name)$/i,
    /name$|^(label|nick|alias|title)$/i,
  ],
  place: [
    /^(chat_?id|conversation|conversation_?id|group_?id|room|room_?id|thread_?id|channel_?id)$/i,
    /chat|conversation|group|room/i,
  ],
  media: [/^(media_?url\d*|attachment_?url|file_?url|image_?url)$/i, /(media|attach|file|image).*(url|link)/i],
  mime: [/^(media_?content_?type\d*|mime_?type|mime)$/i, /mime|content_?type/i],
}

const fits: { [role in FieldRole]: (value: string) => number } = {
  from: (value) => (e164(value.replace(/@[\w.]+$/, ""), "GB") ? 3 : /\s/.test(value) || value.length > 80 ? -9 : 0),
  text: (value) =>
    /\s/.test(value.trim()) && !isTime(value)
      ? 3 + Math.min(value.length, 100) / 200
      : /^\+?\d+$/.test(value)
        ? -3
        : /^https?:/.test(value)
          ? -9
          : 0,
  // A long mix of letters and digits is an id, whatever it is called.
  id: (value) => (/[\s:]/.test(value) || value.length < 3 ? -9 : isUnique(value) ? 4.5 : /\d/.test(value) ? 2 : 0),
  // A date with a time of day is nothing else, whatever it is called; a number may be a telephone's.
  time: (value) => (!isTime(value) ? -9 : value.includes(":") ? 4.5 : 3),
  name: (value) => (value.length > 60 || /^[\d+]/.test(value) ? -9 : 0),
  place: (value) => (/\s/.test(value) ? -9 : 0),
  media: (value) => (/^https?:\/\//.test(value) ? 3 : -9),
  mime: (value) => (/^[\w.+-]+\/[\w.+-]+$/.test(value) ? 3 : -9),
}

/** Names that a role never has: the other side, and what proves a call or says whose account it is. */
const spoils: { [role in FieldRole]?: RegExp } = {
  from: /^to|recipient|receiver|destination/i,
  id: /\bsig|signature|hash|token|secret|account|instance|device|session/i,
}

function isTime(value: string): boolean {
  if (/^\d{10}(\.\d+)?$|^\d{13}$/.test(value)) return true
  return /^\d{4}-\d\d-\d\d/.test(value) && !Number.isNaN(Date.parse(value))
}

function isUnique(value: string): boolean {
  return /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i.test(value) || /^(?=.*\d)(?=.*[a-z])[\w.-]{16,64}$/i.test(value)
}

/** How much better the best must be than the next, or a person should look. */
const clear = 1.5

function rolesIn(
  fields: SampleField[],
  ownNumber: string | undefined,
): { found: { [role in FieldRole]?: string }; doubts: string[] } {
  const found: { [role in FieldRole]?: string } = {}
  const doubts: string[] = []
  const taken = new Set<string>()
  const own = fields.filter(({ value }) => isNumber(value, ownNumber)).map(({ where }) => where)
  for (const role of roles) {
    const [best, next] = fields
      .filter(({ where }) => !taken.has(where) && !(role === "from" && own.includes(where)))
      .map(({ where, value }) => ({ where, value, score: scoreOf(role, where, value, fields) }))
      .sort((a, b) => b.score - a.score)
    // Words that stand in no other role are the text, whatever the field is called.
    if (!best || best.score < (role === "text" ? 2 : 4)) continue
    found[role] = best.where
    taken.add(best.where)
    // The same value twice is no question.
    const close = next && next.score > best.score - clear && next.value !== best.value
    if (close && (role === "from" || role === "text"))
      doubts.push(`the ${role === "from" ? "sender" : "text"} is ${best.where}, or ${next.where}`)
  }
  return { found, doubts }
}

/** Whether a value is this number, however either is written. */
function isNumber(value: string, number: string | undefined): boolean {
  if (number === undefined) return false
  const digits = (text: string) =>
    text
      .replace(/@[\w.]+$/, "")
      .replace(/\D/g, "")
      .replace(/^00/, "")
  return digits(number).length > 5 && digits(value) === digits(number)
}

/** Things that hold a number and a name are people. */
function isPerson(where: string, fields: SampleField[]): boolean {
  const parent = where.slice(0, where.lastIndexOf("/"))
  return (
    parent !== "" &&
    fields.some(
      (other) =>
        other.where !== where &&
        other.where.startsWith(`${parent}/`) &&
        names.name.some((one) => one.test(other.where.split("/").at(-1)!)),
    )
  )
}

/** Steps of a path in which the other side stands, or the account itself. */
const ownSide = /^(to|recipient|receiver|destination|account|instance|me|device|session|bot|owner|self)$/i

function scoreOf(role: FieldRole, where: string, value: string, fields: SampleField[]): number {
  const steps = where.split("/").filter((step) => step !== "" && step !== "0")
  const last = steps.at(-1) ?? where
  const [exact, near] = names[role]
  // A field named "id" inside "from" is the sender.
  const parent = steps.at(-2) ?? ""
  const inside =
    /^(id|number|phone|address|value|body)$/i.test(last) && names[role].some((one) => one.test(parent)) ? 4 : 0
  const named = exact!.test(last) ? 5 : near!.test(last) ? 3 : 0
  if (role === "text" && named === 0 && names.name.some((one) => one.test(last))) return 0
  const spoiled = spoils[role]?.test(`${parent} ${last}`) ? -9 : 0
  const ours = role === "from" || role === "name" ? (steps.some((step) => ownSide.test(step)) ? -6 : 0) : 0
  const person = role === "from" && isPerson(where, fields) ? 1.5 : 0
  // What stands beside the sender's number is the sender's name.
  const beside = role === "name" && named > 0 && names.from.some((one) => one.test(parent)) ? 2 : 0
  return Math.max(named, inside) + beside + person + ours + fits[role](value) + spoiled - steps.length * 0.1
}

const signatureHeader = /sign|hmac|digest|hash/i
const timeHeader = /time|date|stamp/i

/** Every way of proving that matches with one of the channel's secrets. */
function certainProofs(
  call: InboundCall,
  secrets: { [name: string]: string },
  publicBase: string,
  body: BodyForm,
): ProofGuess[] {
  const found: ProofGuess[] = []
  const sure = (scheme: VerifyScheme, says: string) => found.push({ scheme, certain: true, says })
  const query = new URLSearchParams(call.address.split("?")[1] ?? "")
  const headers = Object.entries(call.headers)
  for (const [secret, word] of Object.entries(secrets)) {
    for (const [header, value] of headers) {
      if (sameWord(value.replace(/^Bearer\s+/i, ""), word))
        sure({ scheme: "word", secret, header }, `the header ${header} repeats ${secret}`)
    }
    for (const [name, value] of query)
      if (sameWord(value, word))
        sure({ scheme: "word", secret, query: name }, `the address repeats ${secret} as ?${name}=`)
    const given = query.get("signature") ?? query.get("sign")
    const of = ["timestamp", "nonce"].filter((name) => query.has(name))
    if (given !== null && of.length > 0) {
      const pieces = [word, ...of.map((name) => query.get(name)!)]
      if (sameDigest(given, "hex", sortedHash("sha1", pieces)))
        sure(
          {
            scheme: "sorted-hash",
            secret,
            query: query.has("signature") ? "signature" : "sign",
            of,
            algorithm: "sha1",
            encoding: "hex",
          },
          `the address carries the hash of ${secret} with ${of.join(" and ")}`,
        )
    }
    const times = headers.filter(([name]) => timeHeader.test(name) && name !== "date").map(([name]) => name)
    for (const [header, value] of headers) {
      const stated = value.trim().replace(/^[a-z0-9_-]+=(?=.)/i, "")
      for (const algorithm of ["sha256", "sha1", "sha512"] as const) {
        for (const encoding of ["hex", "base64"] as const) {
          const matches = (pieces: (string | Uint8Array)[]) =>
            sameDigest(stated, encoding, hmacOf(algorithm, word, pieces))
          const how = `${header} is the HMAC-${algorithm.toUpperCase()} (${encoding}) under ${secret} of`
          if (Buffer.from(stated, encoding).length < 20) continue
          if (matches([call.body])) sure({ scheme: "body", secret, header, algorithm, encoding }, `${how} the body`)
          const form = [...new URLSearchParams(Buffer.from(call.body).toString("utf8"))].sort(([a], [b]) =>
            a < b ? -1 : 1,
          )
          const fields = body === "form" ? form.map(([name, one]) => name + one).join("") : ""
          if (matches([publicBase + call.address + fields]))
            sure(
              { scheme: "address-and-form", secret, header, algorithm, encoding },
              `${how} the address and the fields`,
            )
          for (const time of times) {
            for (const between of [".", ":", "", "\n"]) {
              if (!matches([call.headers[time]! + between, call.body])) continue
              const over = `{header:${time}}${between}{body}`
              const clock = { header: time, within: 300 }
              sure(
                { scheme: "template", secret, header, over, algorithm, encoding, clock },
                `${how} ${time} and the body`,
              )
            }
          }
        }
      }
    }
  }
  return found
}

/** What looks like a proof, to be confirmed by giving its secret. */
function likelyProofs(call: InboundCall): ProofGuess[] {
  const found: ProofGuess[] = []
  const likely = (scheme: VerifyScheme, says: string) => found.push({ scheme, certain: false, says })
  const query = new URLSearchParams(call.address.split("?")[1] ?? "")
  for (const [header, value] of Object.entries(call.headers)) {
    if (/^basic\s/i.test(value) && header === "authorization")
      likely(
        { scheme: "basic", secret: "inboundPassword", user: "{user}" },
        "the gateway authorises itself with a name and a password",
      )
    if (!signatureHeader.test(header)) continue
    const stated = value.replace(/^[a-z0-9_-]+=(?=.)/i, "")
    const hex = /^[0-9a-f]+$/i.test(stated)
    const length = Buffer.from(stated, hex ? "hex" : "base64").length
    const algorithm = ({ 20: "sha1", 32: "sha256", 64: "sha512" } as const)[length]
    if (algorithm)
      likely(
        { scheme: "body", secret: "signingSecret", header, algorithm, encoding: hex ? "hex" : "base64" },
        `the header ${header} looks like an HMAC-${algorithm.toUpperCase()} in ${hex ? "hexadecimal" : "base64"}: give its secret as signingSecret`,
      )
  }
  const signed = query.has("signature") && query.has("timestamp") && query.has("nonce")
  if (signed)
    likely(
      {
        scheme: "sorted-hash",
        secret: "sharedWord",
        query: "signature",
        of: ["timestamp", "nonce"],
        algorithm: "sha1",
        encoding: "hex",
      },
      "the address carries a hash with a time and a nonce: give the agreed word as sharedWord",
    )
  for (const [header, value] of Object.entries(call.headers))
    if (/token|secret|api-?key/i.test(header) && !signatureHeader.test(header) && /^\S{4,}$/.test(value))
      likely(
        { scheme: "word", secret: "sharedWord", header },
        `the header ${header} looks like a word that repeats: give it as sharedWord`,
      )
  return found
}

/**
 * Writes the profile that a person has agreed to. What it says is checked like any other; a fault is given back.
 *
 * @param places for each role where it stands, as proposed or as corrected
 */
export function writeProfile(given: {
  name: string
  body: BodyForm
  places: { [role in FieldRole]?: string }
  proof: VerifyScheme
  sending: Sending
  addresses: "numbers" | "names"
  /** The list the places are relative to, where several messages come in one call. */
  each?: string | undefined
  own?: OwnMark | undefined
}): { source: string; profile: Profile } | { faults: string[] } {
  const { name, body, places, proof, sending, addresses, each, own } = given
  const { from, text, id, time, name: who, place, media, mime } = places
  const secrets: Profile["secrets"] = { [proof.secret]: { says: "what the gateway's calls are proven by" } }
  const key = sending.bearer ?? sending.basic?.[1]
  if (key !== undefined) secrets[key] ??= { says: "the key for sending", required: true }
  for (const header of Object.values(sending.headers ?? {}))
    for (const [, secret] of header.matchAll(/\{(\w+)\}/g))
      secrets[secret!] ??= { says: "the key for sending", required: true }
  const settings: Profile["settings"] = {}
  if (sending.basic) settings[sending.basic[0]] = { says: "the name that goes with the key", required: true }
  if (proof.scheme === "basic") settings.user ??= { says: "the name for basic authorisation", required: true }
  const document = {
    profile: name,
    title: `learned from a call`,
    addresses,
    ...(Object.keys(settings).length > 0 ? { settings } : {}),
    secrets,
    inbound: {
      body,
      verify: [proof],
      message: {
        ...(each ? { each } : {}),
        ...(id ? { id } : {}),
        from,
        text,
        ...(time ? { time } : {}),
        ...(who ? { name: who } : {}),
        ...(place ? { place } : {}),
        ...(own ? { own: { [own.where]: own.values } } : {}),
        ...(media ? { media: { address: media, mime: mime ?? "" } } : {}),
      },
    },
    outbound: {
      address: sending.address,
      ...(sending.bearer ? { authorization: { bearer: sending.bearer } } : {}),
      ...(sending.basic ? { authorization: { basic: sending.basic } } : {}),
      ...(sending.headers ? { headers: sending.headers } : {}),
      body: sending.body,
      send: sending.send,
      ...(sending.id ? { answer: { id: sending.id } } : {}),
    },
  }
  const source = `# Written by "wobbet channel learn" from one call, and agreed to.\n${stringify(document, { lineWidth: 0 })}`
  const read = readProfile(source)
  if ("faults" in read) return { faults: read.faults.map((fault) => `${fault.field}: ${fault.says}. ${fault.remedy}`) }
  return { source, profile: read.profile }
}
