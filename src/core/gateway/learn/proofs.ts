import type { InboundCall } from "../../channels/call.ts"
import { hmacOf, sameDigest, sortedHash } from "../../signature/hmac.ts"
import { sameWord } from "../../signature/secretWord.ts"
import type { VerifyScheme } from "../profile.ts"
import type { ProofGuess, ReadSample } from "./sample.ts"

const signatureHeader = /sign|hmac|digest|hash/i
const timeHeader = /time|date|stamp/i

/** Every way of proving that matches with one of the channel's secrets. */
export function certainProofs(
  { call, body, fields }: ReadSample,
  secrets: { [name: string]: string },
  publicBase: string,
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
    for (const { where, value } of fields)
      if (word.length > 3 && sameWord(value, word))
        sure({ scheme: "word", secret, field: where }, `the field ${where} of the body repeats ${secret}`)
    found.push(...sortedHashes(query, secret, word))
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

/** A field of the query that is the hash of the word with one, two or three others, sorted and joined. */
function sortedHashes(query: URLSearchParams, secret: string, word: string): ProofGuess[] {
  const fields = [...query].slice(0, 8)
  const found: ProofGuess[] = []
  for (const [name, given] of fields) {
    const algorithm = ({ 40: "sha1", 64: "sha256" } as const)[given.length]
    if (!algorithm || !/^[0-9a-f]+$/i.test(given)) continue
    const others = fields.filter(([other]) => other !== name)
    for (const some of choices(others)) {
      const pieces = [word, ...some.map(([, value]) => value)]
      if (!sameDigest(given, "hex", sortedHash(algorithm, pieces))) continue
      const of = some.map(([other]) => other)
      const time = some.find(([other, value]) => /^\d{10}(\d{3})?$/.test(value) && other !== name)?.[0]
      const clock = time === undefined ? {} : { clock: { query: time, within: 300 } }
      found.push({
        scheme: { scheme: "sorted-hash", secret, query: name, of, algorithm, encoding: "hex", ...clock },
        certain: true,
        says: `the address carries the hash of ${secret} with ${of.join(" and ")} (${name})`,
      })
    }
  }
  return found
}

/** One, two or three of a list. */
function choices<Item>(list: Item[]): Item[][] {
  return list.flatMap((one, at) => {
    const rest = list.slice(at + 1)
    return [[one], ...rest.flatMap((two, n) => [[one, two], ...rest.slice(n + 1).map((three) => [one, two, three])])]
  })
}

/** What looks like a proof, to be confirmed by giving its secret. */
export function likelyProofs(call: InboundCall): ProofGuess[] {
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
