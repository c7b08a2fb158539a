import { createCipheriv, createDecipheriv, createHmac, randomBytes } from "node:crypto"
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
  const known = (text: string) => replaceSecrets(text, secrets, (secret) => seal.fingerprint(secret))
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

/** Text with every known secret taken out. */
export function replaceSecrets(text: string, secrets: string[], by: (secret: string) => string): string {
  return secrets.reduce(
    (rest, secret) => (secret.length >= 4 && rest.includes(secret) ? rest.replaceAll(secret, by(secret)) : rest),
    text,
  )
}
