import { createCipheriv, createDecipheriv, createHmac, randomBytes } from "node:crypto"
import { LRUCache } from "lru-cache"
import { addressMark } from "../core/signature/addressMark.ts"
import { decoded } from "../core/signature/addresses.ts"

/** Keeps secrets sealed at rest (AES-256-GCM), and turns them into fingerprints where they must only be compared. */
export class Seal {
  private readonly fingerprints = new Map<string, string>()

  constructor(private readonly key: Buffer) {
    if (key.length !== 32) throw new Error("The seal key must be 32 bytes: 64 hexadecimal digits in WOBBET_SEAL_KEY.")
  }

  seal(secret: string): string {
    const iv = randomBytes(12)
    const cipher = createCipheriv("aes-256-gcm", this.key, iv)
    const sealed = Buffer.concat([cipher.update(secret, "utf8"), cipher.final()])
    return ["v1", iv.toString("base64"), cipher.getAuthTag().toString("base64"), sealed.toString("base64")].join(":")
  }

  /** Throws when the key is another than the one it was sealed with. */
  open(sealed: string): string {
    const [version, iv, tag, body] = sealed.split(":")
    if (version !== "v1" || !iv || !tag || body === undefined) throw new Error("This is no sealed secret of ours.")
    const decipher = createDecipheriv("aes-256-gcm", this.key, Buffer.from(iv, "base64"))
    decipher.setAuthTag(Buffer.from(tag, "base64"))
    return Buffer.concat([decipher.update(Buffer.from(body, "base64")), decipher.final()]).toString("utf8")
  }

  /** A proof that only who holds this key can give, such as that an answer comes from this service. */
  sign(text: string): string {
    return createHmac("sha256", this.key).update(`signed ${text}`).digest("hex")
  }

  /** Keyed hash of somebody's address on a channel. */
  mark(channel: string, address: string): string {
    return addressMark(this.key, channel, address)
  }

  /** Tells two secrets apart, and nothing about either. Those seen lately are kept: most calls bring the same. */
  fingerprint(secret: string): string {
    let known = this.fingerprints.get(secret)
    if (known === undefined) {
      if (this.fingerprints.size > 1000) this.fingerprints.clear()
      known = `#${createHmac("sha256", this.key).update(secret).digest("hex").slice(0, 12)}`
      if (secret.length <= 1000) this.fingerprints.set(secret, known)
    }
    return known
  }
}

const secretNames = /authorization|cookie|secret|token|password|api-?key|verify|word/i

/** Headers and address as they may be kept: whatever is or looks like a secret becomes its fingerprint. */
export function redactCall(
  call: { address: string; headers: { [name: string]: string } },
  secrets: string[],
  seal: Seal,
): { address: string; headers: { [name: string]: string } } {
  const everything = Object.values(call.headers).join("\n") + call.address
  // Hardly any call carries one where it is not expected.
  const clean = !secrets.some((secret) => formsOf(secret).some((form) => everything.includes(form)))
  const known = (text: string) => (clean ? text : replaceSecrets(text, secrets, (secret) => seal.fingerprint(secret)))
  const headers: { [name: string]: string } = {}
  for (const name in call.headers) {
    const value = call.headers[name]!
    headers[name] = secretNames.test(name) ? seal.fingerprint(value) : known(value)
  }
  const [path, query] = call.address.split("?", 2)
  if (query === undefined) return { address: known(call.address), headers }
  const parts = query.split("&").map((pair) => {
    const [name, value] = pair.split("=", 2)
    return value !== undefined && secretNames.test(name!) ? `${name}=${seal.fingerprint(decoded(value))}` : known(pair)
  })
  return { address: `${known(path!)}?${parts.join("&")}`, headers }
}

/** A body with every known secret replaced by its fingerprint. */
export function redactBody(body: Uint8Array, secrets: string[], seal: Seal): Buffer {
  const given = Buffer.from(body)
  const text = given.toString("utf8")
  const safe = replaceSecrets(text, secrets, (secret) => seal.fingerprint(secret))
  return safe === text ? given : Buffer.from(safe)
}

/** Text with every known secret taken out, in whatever usual encoding it stands there. */
export function replaceSecrets(text: string, secrets: string[], by: (secret: string) => string): string {
  let rest = text
  for (const secret of secrets)
    for (const form of formsOf(secret)) if (rest.includes(form)) rest = rest.replaceAll(form, by(secret))
  return rest
}

/** Shorter ones stand in any text by chance. */
const shortest = 4
/** In base64, of which three quarters are told by fewer characters. */
const shortestEncoded = 6

const forms = new LRUCache<string, string[]>({ max: 2000 })

/** How a secret may stand in a text: as it is, in addresses, JSON, XML, hexadecimal and base64; the longest first. */
function formsOf(secret: string): string[] {
  let found = forms.get(secret)
  if (found) return found
  found = secret.length < shortest ? [] : [...new Set([secret, ...encodings(secret)])]
  found.sort((a, b) => b.length - a.length)
  forms.set(secret, found)
  return found
}

function encodings(secret: string): string[] {
  const bytes = Buffer.from(secret, "utf8")
  const percent = encodeURIComponent(secret.toWellFormed())
  const form = new URLSearchParams({ a: secret.toWellFormed() }).toString().slice(2)
  const json = JSON.stringify(secret).slice(1, -1)
  const plain = [
    percent,
    percent.replace(/%[0-9A-F]{2}/g, (code) => code.toLowerCase()),
    percent.replaceAll("%20", "+"),
    form,
    form.replace(/%[0-9A-F]{2}/g, (code) => code.toLowerCase()),
    JSON.stringify(json).slice(1, -1),
    percent.replace(/[!'()*]/g, (sign) => `%${sign.charCodeAt(0).toString(16).toUpperCase()}`),
    [...bytes].map((byte) => `%${hex(byte).toUpperCase()}`).join(""),
    json,
    json.replaceAll("/", "\\/"),
    [...bytes].map((byte) => `%${hex(byte)}`).join(""),
    ...[/[^\w]/g, /[^]/g].flatMap((signs) => inEscapes(secret, signs)),
    ...[/[^\w]/gu, /[^]/gu].flatMap((signs) => inEntities(secret, signs)),
  ]
  if (secret.length < shortestEncoded) return plain
  const base64 = shifts(3).map((shift) => inBase64(bytes, shift))
  const twice = base64.flatMap((form) => shifts(3).map((shift) => inBase64(Buffer.from(form), shift)))
  const encoded = [...base64, ...twice].flatMap((form) => [
    form,
    form.replaceAll("+", "-").replaceAll("/", "_"),
    percentOf(form),
  ])
  const base32 = shifts(5).map((shift) => inBase32(bytes, shift))
  const pairs = [...bytes].map(hex)
  const inHex = ["", " ", ":"].map((between) => pairs.join(between))
  const eitherCase = [...base32, ...inHex].flatMap((form) => [form.toLowerCase(), form.toUpperCase()])
  return [...plain, ...encoded, ...eitherCase]
}

const shifts = (count: number) => Array.from({ length: count }, (_, shift) => shift)

/** With some of its characters as JSON and JavaScript escape them. */
function inEscapes(secret: string, signs: RegExp): string[] {
  const code = (sign: string) => sign.charCodeAt(0).toString(16).padStart(4, "0")
  return [
    secret.replace(signs, (sign) => `\\u${code(sign)}`),
    secret.replace(signs, (sign) => `\\u${code(sign).toUpperCase()}`),
  ]
}

/** With some of its characters as XML and HTML write them. */
function inEntities(secret: string, signs: RegExp): string[] {
  const named = secret
    .replaceAll("&", "&amp;")
    .replaceAll("<", "&lt;")
    .replaceAll(">", "&gt;")
    .replaceAll('"', "&quot;")
  const code = (sign: string, base: number) => sign.codePointAt(0)!.toString(base)
  return [
    named,
    ...["&apos;", "&#39;", "&#x27;"].map((apostrophe) => named.replaceAll("'", apostrophe)),
    secret.replace(signs, (sign) => `&#${code(sign, 10)};`),
    secret.replace(signs, (sign) => `&#x${code(sign, 16)};`),
    secret.replace(signs, (sign) => `&#x${code(sign, 16).toUpperCase()};`),
  ]
}

/** RFC 4648, section 6. */
const alphabet32 = "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567"

/** The characters of base32 that a secret alone decides, where so many bytes stand before it in their group of five. */
function inBase32(bytes: Buffer, shift: number): string {
  const bits = shift * 8
  const all = [...Buffer.alloc(shift), ...bytes].map((byte) => byte.toString(2).padStart(8, "0")).join("")
  // A character that what stands before or behind decides as well is left out.
  const first = Math.ceil(bits / 5)
  const last = Math.floor(all.length / 5)
  return Array.from({ length: last - first }, (_, n) =>
    alphabet32.charAt(Number.parseInt(all.slice((first + n) * 5, (first + n + 1) * 5), 2)),
  ).join("")
}

/** The characters of base64 that a secret alone decides, where so many bytes stand before it in their group of three. */
function inBase64(bytes: Buffer, shift: number): string {
  const whole = Buffer.concat([Buffer.alloc(shift), bytes])
    .toString("base64")
    .replace(/={1,2}$/, "")
  const end = (shift + bytes.length) % 3 === 0 ? whole.length : whole.length - 1
  return whole.slice(shift === 0 ? 0 : shift + 1, end)
}

function percentOf(form: string): string {
  return encodeURIComponent(form)
}

function hex(byte: number): string {
  return byte.toString(16).padStart(2, "0")
}
