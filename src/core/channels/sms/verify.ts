import { createHash } from "node:crypto"
import { sameHmac } from "../../signature/hmac.ts"
import { nearWord, sameWord } from "../../signature/secretWord.ts"
import type { Channel, InboundCall, Verdict } from "../kind.ts"
import { fieldsIn, fillTemplate } from "./fields.ts"
import type { VerifyScheme } from "./profile.ts"
import { profileOf } from "./shipped.ts"

/** By the first of the profile's schemes whose secret this channel has. */
export function verify(call: InboundCall, channel: Channel): Verdict {
  const { verify: schemes, body } = profileOf(channel).inbound
  const scheme = schemes.find((one) => channel.secrets[one.secret] !== undefined)
  if (!scheme) {
    return {
      genuine: false,
      why: `this channel has none of the secrets a call can be proven by: ${schemes.map((one) => one.secret).join(", ")}`,
      remedy: `Set one: "wobbet channel change ${channel.key} --secret ${schemes[0]!.secret}=…".`,
    }
  }
  const secret = channel.secrets[scheme.secret]!
  switch (scheme.scheme) {
    case "address-and-form":
      return bySignature(call, channel, scheme, secret, body === "form" && isForm(call))
    case "body":
      return bySignature(call, channel, scheme, secret, false)
    case "word":
      return byWord(call, channel, scheme, secret)
    case "basic":
      return byBasic(call, channel, scheme, secret)
  }
}

function isForm(call: InboundCall): boolean {
  return (call.headers["content-type"] ?? "application/x-www-form-urlencoded").includes("form-urlencoded")
}

function bySignature(
  call: InboundCall,
  channel: Channel,
  scheme: Extract<VerifyScheme, { scheme: "address-and-form" | "body" }>,
  secret: string,
  form: boolean,
): Verdict {
  const name = fillTemplate(scheme.header, channel.settings).toLowerCase()
  const given = headerLike(call, name)
  if (given === undefined) {
    return {
      genuine: false,
      why: `the call carries no signature (${name})`,
      remedy: "Does the gateway sign calls, and under that header? The setting signatureHeader names it.",
    }
  }
  const { algorithm, encoding } = scheme
  const stated = given.replace(/^sha(1|256)=/, "")
  const matches = (over: (string | Uint8Array)[]) => sameHmac(stated, { algorithm, key: secret, encoding, over })
  if (scheme.scheme === "body") {
    if (matches([call.body])) return { genuine: true, by: `signature (HMAC-${algorithm.toUpperCase()} of the body)` }
  } else {
    const address = `${channel.publicBase ?? ""}${call.address}`
    if (!form && scheme.bodyHash && !bodyHashFits(call, scheme.bodyHash)) {
      return {
        genuine: false,
        why: `the body does not have the hash its address names (${scheme.bodyHash})`,
        remedy: "Something in between rewrites bodies, or somebody put another body under a signed address.",
      }
    }
    if (matches(form ? [address + sortedFields(call).join("")] : [address]))
      return { genuine: true, by: `signature (HMAC-${algorithm.toUpperCase()} of address and fields)` }
  }
  return {
    genuine: false,
    why: `the signature does not match under this channel's ${scheme.secret}`,
    remedy: `Compare ${scheme.secret} with the gateway's pages${scheme.scheme === "body" ? "" : `, and the address it calls with ${channel.publicBase ?? ""}${call.address.split("?")[0]}`}.`,
  }
}

/** A name with a star stands for the one header that fits it. */
function headerLike(call: InboundCall, name: string): string | undefined {
  if (!name.includes("*")) return call.headers[name]
  const [begin, end] = name.split("*", 2)
  const found = Object.keys(call.headers).find(
    (one) => one.length >= name.length - 1 && one.startsWith(begin!) && one.endsWith(end!),
  )
  return found === undefined ? undefined : call.headers[found]
}

/** Every field's name and value, sorted by name; one that comes twice with its values in their order. */
function sortedFields(call: InboundCall): string[] {
  return [...fieldsIn(call)].sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0)).map(([name, value]) => name + value)
}

function bodyHashFits(call: InboundCall, field: string): boolean {
  if (call.body.length === 0) return true
  const stated = new URLSearchParams(call.address.split("?")[1] ?? "").get(field)
  return stated !== null && sameWord(stated.toLowerCase(), createHash("sha256").update(call.body).digest("hex"))
}

function byWord(
  call: InboundCall,
  channel: Channel,
  scheme: Extract<VerifyScheme, { scheme: "word" }>,
  secret: string,
): Verdict {
  const header = scheme.header === undefined ? undefined : fillTemplate(scheme.header, channel.settings).toLowerCase()
  const query = scheme.query === undefined ? undefined : fillTemplate(scheme.query, channel.settings)
  const inQuery = query === undefined ? null : new URLSearchParams(call.address.split("?")[1] ?? "").get(query)
  const given = (header === undefined ? undefined : call.headers[header]) ?? inQuery ?? undefined
  const places = [header && `the header ${header}`, query && `the address as ?${query}=`]
    .filter(Boolean)
    .join(" or in ")
  if (given === undefined) {
    return {
      genuine: false,
      why: `the call carries no shared word, in ${places}`,
      remedy: `Give the gateway the word to repeat: in ${places}.`,
    }
  }
  if (sameWord(given, secret)) return { genuine: true, by: "shared word" }
  const near = nearWord(given, secret)
  return {
    genuine: false,
    why: `the shared word is another than this channel's ${scheme.secret}`,
    remedy: "Enter the same word on both sides.",
    ...(near ? { near } : {}),
  }
}

function byBasic(
  call: InboundCall,
  channel: Channel,
  scheme: Extract<VerifyScheme, { scheme: "basic" }>,
  secret: string,
): Verdict {
  const given = /^basic\s+(\S+)$/i.exec(call.headers.authorization ?? "")?.[1]
  if (given === undefined) {
    return {
      genuine: false,
      why: "the call carries no basic authorisation",
      remedy: "Let the gateway authorise itself with the agreed name and password.",
    }
  }
  const user = fillTemplate(scheme.user, channel.settings)
  if (sameWord(Buffer.from(given, "base64").toString("utf8"), `${user}:${secret}`))
    return { genuine: true, by: "basic authorisation" }
  return {
    genuine: false,
    why: `the name or password is not this channel's (${scheme.secret})`,
    remedy: "Enter the same name and password on both sides.",
  }
}
