import { createHash } from "node:crypto"
import type { Channel, Verdict } from "../channels/kind.ts"
import type { InboundCall } from "../channels/call.ts"
import { hmacOf, sameHmac, sortedHash } from "../signature/hmac.ts"
import type { Proof, Seen } from "../signature/proof.ts"
import { proves } from "../signature/proof.ts"
import { sameWord } from "../signature/secretWord.ts"
import { contentOf } from "./content.ts"
import { fieldsIn, fillTemplate, textAt } from "./fields.ts"
import { handshakeIn } from "./handshake.ts"
import type { Clock, VerifyScheme } from "./profile.ts"
import { hasProfile, profileOf } from "./shipped.ts"

/** By the first of the profile's schemes whose secret this channel has. */
export function verify(call: InboundCall, channel: Channel, now: Date): Verdict {
  if (!hasProfile(channel)) {
    return {
      genuine: false,
      byHead: true,
      why: "this channel has no gateway profile yet, so nothing says how its calls are proven",
      remedy: `Run "wobbet channel learn ${channel.key}" and let the gateway call: it proposes one.`,
    }
  }
  if (!profileOf(channel).inbound) {
    return {
      genuine: false,
      byHead: true,
      why: "this channel only sends: its gateway's profile says nothing of calls that come in",
      remedy: "If the gateway brings messages, add inbound to its profile, or let a channel learn it.",
    }
  }
  const scheme = schemeFor(call, channel)
  if (typeof scheme === "string") {
    return {
      genuine: false,
      byHead: true,
      why: `this channel has none of the secrets a call can be proven by: ${scheme}`,
      remedy: `Set one: "wobbet channel change ${channel.key} --secret ${scheme.split(",")[0]}=…".`,
    }
  }
  const secret = channel.secrets[scheme.secret]!
  switch (scheme.scheme) {
    case "address-and-form":
    case "body":
    case "template":
      return bySignature(call, channel, scheme, secret, now)
    case "sorted-hash":
      return bySortedHash(call, channel, scheme, secret, now)
    case "word":
      return byWord(call, channel, scheme, secret)
    case "basic":
      return byBasic(call, channel, scheme, secret)
  }
}

/** Whether a word by which calls are proven may stand in their body. */
export function secretInBody(channel: Channel): boolean {
  const schemes = hasProfile(channel) ? (profileOf(channel).inbound?.verify ?? []) : []
  return schemes.some((one) => one.scheme === "word" && one.field !== undefined)
}

/** How the call states that it is genuine, for finding out why it was refused. */
export function proof(call: InboundCall, channel: Channel): Proof | undefined {
  if (!hasProfile(channel)) return undefined
  const scheme = schemeFor(call, channel)
  if (typeof scheme === "string") return undefined
  const { secret } = scheme
  switch (scheme.scheme) {
    case "address-and-form":
    case "body":
    case "template": {
      const given = headerLike(call, headerOf(scheme, channel))
      if (given === undefined) return undefined
      const { algorithm, encoding } = scheme
      const form = scheme.scheme === "address-and-form" && isForm(call, channel)
      const over = scheme.scheme === "template" ? scheme.over : ""
      const covers = {
        address: scheme.scheme === "address-and-form" || /\{(address|path)\}/.test(over),
        body: scheme.scheme === "body" || over.includes("{body}"),
        form,
      }
      const digest = (key: string, seen: Seen, made: typeof algorithm) =>
        hmacOf(made, key, coveredBy(scheme, call, channel, seen, form))
      return { by: "digest", secret, given: bare(given), algorithm, encoding, covers, digest }
    }
    case "sorted-hash": {
      const query = queryOf(call)
      const given = query.get(scheme.query)
      const { algorithm, encoding } = scheme
      if (given === null) return undefined
      const pieces = scheme.of.map((name) => query.get(name) ?? "")
      const digest = (key: string, _seen: Seen, made: typeof algorithm) => sortedHash(made, [key, ...pieces])
      return { by: "digest", secret, given, algorithm, encoding, covers: {}, digest }
    }
    case "word": {
      const given = wordIn(call, channel, scheme)
      return given === undefined ? undefined : { by: "word", secret, given }
    }
    case "basic": {
      const given = basicIn(call)
      const user = fillTemplate(scheme.user, channel.settings)
      return given === undefined ? undefined : { by: "word", secret, given, agreed: (word) => `${user}:${word}` }
    }
  }
}

/** The scheme that counts for this call, or the names of the secrets that are missing. */
function schemeFor(call: InboundCall, channel: Channel): VerifyScheme | string {
  const { verify: every = [], handshake } = profileOf(channel).inbound ?? {}
  const schemes = handshake?.verify && handshakeIn(call, channel) !== undefined ? handshake.verify : every
  return (
    schemes.find((scheme) => channel.secrets[scheme.secret] !== undefined) ??
    schemes.map((scheme) => scheme.secret).join(", ")
  )
}

function isForm(call: InboundCall, channel: Channel): boolean {
  const type = call.headers["content-type"] ?? "application/x-www-form-urlencoded"
  return profileOf(channel).inbound?.body === "form" && type.includes("form-urlencoded")
}

type Signed = Extract<VerifyScheme, { scheme: "address-and-form" | "body" | "template" }>

function headerOf(scheme: Signed, channel: Channel): string {
  return fillTemplate(scheme.header, channel.settings).toLowerCase()
}

/** Without the name of the algorithm before it. */
function bare(given: string): string {
  return given.trim().replace(/^(sha(1|256|512)|v\d)=/, "")
}

/** What the signature is made over. */
export function coveredBy(
  scheme: Signed,
  call: InboundCall,
  channel: Channel,
  seen: Seen,
  form: boolean,
): (string | Uint8Array)[] {
  if (scheme.scheme === "body") return [seen.body]
  if (scheme.scheme === "address-and-form") {
    return form ? [seen.address + sortedFields({ ...call, body: seen.body })] : [seen.address]
  }
  return scheme.over.split(/(\{[^{}]+\})/).map((piece) => {
    const name = /^\{(.+)\}$/.exec(piece)?.[1]
    if (name === undefined) return piece
    if (name === "body") return seen.body
    if (name === "address") return seen.address
    if (name === "path") return seen.address.replace(/^[a-z]+:\/\/[^/]*/i, "")
    if (name === "method") return call.method
    if (name.startsWith("header:")) return call.headers[name.slice(7).toLowerCase()] ?? ""
    if (name.startsWith("query:")) return queryOf(call).get(name.slice(6)) ?? ""
    return fillTemplate(piece, channel.settings)
  })
}

function bySignature(call: InboundCall, channel: Channel, scheme: Signed, secret: string, now: Date): Verdict {
  const name = headerOf(scheme, channel)
  const given = headerLike(call, name)
  if (given === undefined) {
    return {
      genuine: false,
      byHead: true,
      why: `the call has no signature (${name})`,
      remedy: `Many gateways send this header only once a secret is set with them. If it has another name here, the profile${Object.hasOwn(channel.settings, "signatureHeader") ? " (its setting signatureHeader)" : ""} names it.`,
    }
  }
  const form = scheme.scheme === "address-and-form" && isForm(call, channel)
  const bodyHash = scheme.scheme === "address-and-form" && scheme.bodyHash
  const hashField = bodyHash ? fillTemplate(bodyHash, channel.settings) : undefined
  if (!form && hashField !== undefined && !bodyHashFits(call, hashField)) {
    return {
      genuine: false,
      why: `the body does not have the hash its address names (${hashField})`,
      remedy: "Something in between rewrites bodies, or somebody put another body under a signed address.",
    }
  }
  const seen: Seen = { address: `${channel.publicBase ?? ""}${call.address}`, body: call.body }
  const { algorithm, encoding } = scheme
  const over = coveredBy(scheme, call, channel, seen, form)
  const words = { "address-and-form": "address and fields", body: "the body", template: "what the profile names" }
  if (sameHmac(bare(given), { algorithm, key: secret, encoding, over })) {
    const late = scheme.scheme === "template" && scheme.clock ? clockFault(call, scheme.clock, now) : undefined
    return late ?? { genuine: true, by: `signature (HMAC-${algorithm.toUpperCase()} of ${words[scheme.scheme]})` }
  }
  const address = form || scheme.scheme === "address-and-form"
  return {
    genuine: false,
    why: `the signature does not match under this channel's ${scheme.secret}`,
    remedy: `Compare ${scheme.secret} with the gateway's pages${address ? `, and the address it calls with ${channel.publicBase ?? ""}${call.address.split("?")[0]}` : ""}.`,
  }
}

function bySortedHash(
  call: InboundCall,
  channel: Channel,
  scheme: Extract<VerifyScheme, { scheme: "sorted-hash" }>,
  secret: string,
  now: Date,
): Verdict {
  const query = queryOf(call)
  const missing = [scheme.query, ...scheme.of].filter((name) => !query.has(name))
  if (missing.length > 0) {
    return {
      genuine: false,
      byHead: true,
      why: `the call's address has no ${missing.join(", ")}`,
      remedy: `The gateway adds ${[scheme.query, ...scheme.of].join(", ")} to the address of every call. Does something in between take the query away, or did somebody else call?`,
    }
  }
  const stated = proof(call, channel)!
  if (proves(stated, secret, { address: "", body: call.body }))
    return (
      (scheme.clock ? clockFault(call, scheme.clock, now) : undefined) ?? {
        genuine: true,
        by: `hash of the shared word with ${scheme.of.join(" and ")}`,
      }
    )
  return {
    genuine: false,
    byHead: true,
    why: `the hash (${scheme.query}) is not that of this channel's ${scheme.secret} with ${scheme.of.join(" and ")}`,
    remedy: `Enter the same word on both sides: at the provider, and here as the secret ${scheme.secret}.`,
  }
}

/** A call whose signature is right, but whose time is not now. */
function clockFault(call: InboundCall, clock: Clock, now: Date): Verdict | undefined {
  const name = clock.header ?? clock.query ?? ""
  const given = clock.header ? call.headers[clock.header.toLowerCase()] : queryOf(call).get(clock.query ?? "")
  const number = Number(given)
  if (given === undefined || given === null || given === "" || Number.isNaN(number)) {
    return {
      genuine: false,
      why: `the signature is right, but its time (${name}) is not a number`,
      remedy: "See that the profile's clock names the field the gateway sends its time in.",
    }
  }
  const seconds = number > 1e11 ? number / 1000 : number
  const off = now.getTime() / 1000 - seconds
  if (Math.abs(off) <= clock.within) return undefined
  const shown =
    Math.abs(off) < 120 ? `${Math.round(Math.abs(off))} seconds` : `${Math.round(Math.abs(off) / 60)} minutes`
  return {
    genuine: false,
    why: `the signature is right, but its time is ${shown} ${off > 0 ? "old" : "ahead"}`,
    remedy: "Set this machine's clock, if it is off. An old call sent again by somebody is refused on purpose.",
    near: `It would match if the clocks agreed: yours is ${shown} ${off > 0 ? "ahead of" : "behind"} the call's.`,
  }
}

/** A name with a star stands for the one header that fits it. */
function headerLike(call: InboundCall, name: string): string | undefined {
  if (!name.includes("*")) return call.headers[name]
  const [begin, end] = name.split("*", 2)
  const found = Object.keys(call.headers).find(
    (key) => key.length >= name.length - 1 && key.startsWith(begin!) && key.endsWith(end!),
  )
  return found === undefined ? undefined : call.headers[found]
}

/** Every field's name and value, sorted by name; one that comes twice with its values in their order. */
function sortedFields(call: InboundCall): string {
  let sorted = known.get(call.body)
  if (sorted === undefined) {
    sorted = [...fieldsIn(call)]
      .sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0))
      .map(([name, value]) => name + value)
      .join("")
    known.set(call.body, sorted)
  }
  return sorted
}

/** Of each body once: a search for what would have matched asks for it again and again. */
const known = new WeakMap<Uint8Array, string>()

function bodyHashFits(call: InboundCall, field: string): boolean {
  if (call.body.length === 0) return true
  const stated = queryOf(call).get(field)
  return stated !== null && sameWord(stated.toLowerCase(), createHash("sha256").update(call.body).digest("hex"))
}

type Word = Extract<VerifyScheme, { scheme: "word" }>

function wordPlaces(channel: Channel, scheme: Word): { header?: string; query?: string } {
  return {
    ...(scheme.header === undefined ? {} : { header: fillTemplate(scheme.header, channel.settings).toLowerCase() }),
    ...(scheme.query === undefined ? {} : { query: fillTemplate(scheme.query, channel.settings) }),
  }
}

function wordIn(call: InboundCall, channel: Channel, scheme: Word): string | undefined {
  const { header, query } = wordPlaces(channel, scheme)
  const inHeader = header === undefined ? undefined : call.headers[header]
  // A word in the header for authorisation may come as a bearer's.
  const bearer = header === "authorization" ? inHeader?.replace(/^Bearer\s+/i, "") : inHeader
  return bearer ?? (query === undefined ? undefined : queryOf(call).get(query)) ?? wordInBody(call, channel, scheme)
}

function wordInBody(call: InboundCall, channel: Channel, { field }: Word): string | undefined {
  if (field === undefined || call.body.length === 0) return undefined
  const content = contentOf(call, profileOf(channel).inbound!.body)
  return "unreadable" in content ? undefined : textAt(content, field, channel.settings)
}

function byWord(call: InboundCall, channel: Channel, scheme: Word, secret: string): Verdict {
  const { header, query } = wordPlaces(channel, scheme)
  const given = wordIn(call, channel, scheme)
  const field = scheme.field === undefined ? undefined : [scheme.field].flat()[0]
  const places = [header && `the header ${header}`, query && `the address as ?${query}=`, field && `the field ${field}`]
    .filter(Boolean)
    .join(" or in ")
  // Where the word may stand in the body, its head alone refutes no call.
  const byHead = field === undefined ? { byHead: true as const } : {}
  if (given === undefined) {
    return {
      genuine: false,
      ...byHead,
      why: `the call has no shared word, in ${places}`,
      remedy: `Give the gateway the word to repeat, in ${places}: many send it only once it is set with them.`,
    }
  }
  if (sameWord(given, secret)) return { genuine: true, by: "shared word" }
  return {
    genuine: false,
    ...byHead,
    why: `the shared word is another than this channel's ${scheme.secret}`,
    remedy: "Enter the same word on both sides.",
  }
}

function basicIn(call: InboundCall): string | undefined {
  const given = /^basic\s+(\S+)$/i.exec(call.headers.authorization ?? "")?.[1]
  return given === undefined ? undefined : Buffer.from(given, "base64").toString("utf8")
}

function byBasic(
  call: InboundCall,
  channel: Channel,
  scheme: Extract<VerifyScheme, { scheme: "basic" }>,
  secret: string,
): Verdict {
  const given = basicIn(call)
  if (given === undefined) {
    return {
      genuine: false,
      byHead: true,
      why: "the call has no basic authorisation",
      remedy: "Let the gateway authorise itself with the agreed name and password.",
    }
  }
  const user = fillTemplate(scheme.user, channel.settings)
  if (sameWord(given, `${user}:${secret}`)) return { genuine: true, by: "basic authorisation" }
  return {
    genuine: false,
    byHead: true,
    why: `the name or password is not this channel's (${scheme.secret})`,
    remedy: "Enter the same name and password on both sides.",
  }
}

function queryOf(call: InboundCall): URLSearchParams {
  const at = call.address.indexOf("?")
  return new URLSearchParams(at === -1 ? "" : call.address.slice(at + 1))
}
