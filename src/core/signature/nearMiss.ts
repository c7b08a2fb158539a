import type { InboundCall } from "../channels/call.ts"
import { addressNeighbours, decoded } from "./addresses.ts"
import { bodyNeighbours } from "./bodies.ts"
import type { Algorithm, Encoding } from "./hmac.ts"
import type { DigestProof, Proof, Seen, WordProof } from "./proof.ts"
import { proves } from "./proof.ts"
import type { OwnedSecret } from "./secrets.ts"
import { otherSecrets, rareSecretNeighbours, secretNeighbours } from "./secrets.ts"

/** What would have made a refused call match, and what to do about it; or that nothing close would have. */
export type NearMiss = { near: string; remedy: string } | { tried: string }

/**
 * What one search may spend, in microseconds as they were measured on two slow cores: a hash takes 15 and 1 more for
 * each 200 bytes, rewriting a body 1 for each 60, reading a form 1 for each 12. So the search stays under two
 * milliseconds (`npm run bench -- --forged`), and nobody can keep the service busy by sending it large forged calls.
 */
const mostSpent = 1500
/** Secrets of other channels tried at most. */
const mostOthers = 60

/**
 * Tries the plausible neighbours of a proof that did not match: the address otherwise written, the body as it may have
 * been before something rewrote it, the secret with what slipped in, other secrets, the other writing of the hash. The
 * first that matches is reported, to the operator only; a call is never accepted by it. Secrets are not told.
 *
 * @param secrets all there are in this installation, this channel's among them
 */
export function nearMiss(
  proof: Proof,
  call: InboundCall,
  channel: { key: string; secrets: { [name: string]: string }; publicBase?: string },
  secrets: OwnedSecret[],
): NearMiss {
  const secret = channel.secrets[proof.secret] ?? ""
  const seen: Seen = { address: `${channel.publicBase ?? ""}${call.address}`, body: call.body }
  const search = new Search(proof, seen)
  const own = secrets.filter((secret) => secret.channel === channel.key)
  const others = secrets.filter((secret) => secret.channel !== channel.key).slice(0, mostOthers)
  const digest = proof.by === "digest" ? proof : undefined
  const found =
    (proof.by === "word" ? wordNeighbours(proof, secret) : undefined) ??
    search.secrets(secretNeighbours(secret, proof.secret, channel.key)) ??
    (digest && digestNeighbours(search, digest, secret, call.headers)) ??
    search.secrets(otherSecrets(secret, proof.secret, channel.key, own)) ??
    (digest && (digest.covers.body || digest.covers.form) ? bodies(search, secret) : undefined) ??
    search.secrets(otherSecrets(secret, proof.secret, channel.key, others)) ??
    search.secrets(rareSecretNeighbours(secret, proof.secret))
  return found ?? { tried: search.inVain(proof.secret) }
}

/** Counts what was tried, and stops when it would take too long. */
class Search {
  private count = 0
  private spent = 0
  exhausted = false

  constructor(
    private readonly proof: Proof,
    readonly seen: Seen,
  ) {}

  matches(secret: string, seen: Seen = this.seen, proof: Proof = this.proof): boolean {
    if (secret === "") return false
    this.spend(seen, proof)
    if (this.exhausted) return false
    this.count++
    return proves(proof, secret, seen)
  }

  private spend(seen: Seen, proof: Proof): void {
    const covers = proof.by === "digest" ? proof.covers : {}
    const { length } = seen.body
    const rewriting = seen.body === this.seen.body ? 0 : length / 60
    const read = covers.form && rewriting > 0 ? length / 12 : 0
    this.spent += 15 + (covers.body || covers.form ? length / 200 : 0) + rewriting + read
    if (this.spent > mostSpent) this.exhausted = true
  }

  secrets(neighbours: Iterable<{ secret: string; differs: string; remedy: string }>): NearMiss | undefined {
    for (const { secret, differs, remedy } of neighbours) {
      if (this.matches(secret)) return { near: `It would match ${differs}.`, remedy }
      if (this.exhausted) break
    }
    return undefined
  }

  inVain(name: string): string {
    const large = this.exhausted ? " Not all could be tried, for that would take too long." : ""
    return `None of ${this.count} near ones would match either: most likely ${name} is a different one than the caller's, or somebody is guessing.${large}`
  }
}

function wordNeighbours(proof: WordProof, secret: string): NearMiss | undefined {
  const { given } = proof
  const as = (other: string) => proves({ ...proof, given: other }, secret, { address: "", body: new Uint8Array() })
  if (as(given.trim()))
    return {
      near: "It would match without the spaces or line ends around the word in the call.",
      remedy: "Enter the word at the other side again, without spaces around it.",
    }
  if (proves({ ...proof, given: given.toLowerCase() }, secret.toLowerCase(), { address: "", body: new Uint8Array() }))
    return {
      near: "It would match but for upper and lower case.",
      remedy: "Enter the same word on both sides, letter for letter.",
    }
  const plain = decoded(given.replaceAll("+", " "))
  if (plain !== given && as(plain))
    return {
      near: "It would match if the word in the call were not encoded (%XX).",
      remedy: "The other side encodes the word once too often: choose one of letters and digits alone.",
    }
  return undefined
}

const lengths: { [algorithm in Algorithm]: number } = { sha1: 20, sha256: 32, sha512: 64 }

function digestNeighbours(
  search: Search,
  proof: DigestProof,
  secret: string,
  headers: InboundCall["headers"],
): NearMiss | undefined {
  const writing = otherWriting(proof, secret, search)
  if (writing) return writing
  if (!proof.covers.address) return undefined
  const { seen } = search
  for (const { address, differs, base } of addressNeighbours(seen.address, headers)) {
    if (search.exhausted) return undefined
    if (!search.matches(secret, { ...seen, address })) continue
    return {
      // The query may carry a secret.
      near: `It would match for the address ${address.split("?")[0]}: ${differs}.`,
      remedy: base
        ? `Set this channel's publicUrl to the address it is called under: --set publicUrl=${base}`
        : "Enter at the provider exactly the address this channel shows, or see what rewrites addresses in between.",
    }
  }
  return undefined
}

/** Hexadecimal for base64, one algorithm for another, a prefix that does not belong there. */
function otherWriting(proof: DigestProof, secret: string, search: Search): NearMiss | undefined {
  const bare = proof.given.trim().replace(/^"|"$/g, "")
  const stated = /^(?:[a-z0-9_-]+=)?(.+)$/is.exec(bare)?.[1] ?? bare
  const writings: { given: string; encoding: Encoding; words: string }[] = []
  if (bare !== proof.given) writings.push({ given: bare, encoding: proof.encoding, words: "without quotation marks" })
  if (stated !== bare) writings.push({ given: stated, encoding: proof.encoding, words: "without what stands before =" })
  const other = proof.encoding === "hex" ? "base64" : "hex"
  for (const given of new Set([bare, stated])) {
    if (other === "hex" ? /^[0-9a-f]{40,128}$/i.test(given) : /^[A-Za-z0-9+/_-]{27,88}={0,2}$/.test(given))
      writings.push({ given, encoding: other, words: `as ${other === "hex" ? "hexadecimal" : "base64"}` })
  }
  for (const { given, encoding, words } of [{ given: stated, encoding: proof.encoding, words: "" }, ...writings]) {
    const length = Buffer.from(given, encoding).length
    for (const algorithm of Object.keys(lengths) as Algorithm[]) {
      if (lengths[algorithm] !== length || (words === "" && algorithm === proof.algorithm)) continue
      const variant: DigestProof = { ...proof, given, encoding, algorithm }
      if (!search.matches(secret, undefined, variant)) continue
      const hash = algorithm === proof.algorithm ? "" : ` made with ${algorithm.toUpperCase()}`
      const asked = `${proof.algorithm.toUpperCase()} in ${proof.encoding === "hex" ? "hexadecimal" : "base64"}`
      return {
        near: `It would match read ${[words, hash.trim()].filter(Boolean).join(", ")}; here ${asked} is expected.`,
        remedy: "Change the profile's algorithm or encoding to what the provider uses.",
      }
    }
  }
  return undefined
}

function bodies(search: Search, secret: string): NearMiss | undefined {
  const { seen } = search
  for (const neighbour of bodyNeighbours(seen.body)) {
    if (search.exhausted) return undefined
    if (!search.matches(secret, { ...seen, body: neighbour.body })) continue
    return {
      near: `It would match if the body had come ${neighbour.differs}.`,
      remedy: "Something in between (a proxy, a framework, a tunnel) rewrites bodies: let it pass them on as bytes.",
    }
  }
  return undefined
}
