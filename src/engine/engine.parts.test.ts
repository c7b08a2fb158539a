import fc from "fast-check"
import { telegram } from "../core/channels/telegram/index.ts"
import { GroupCommit } from "./groupCommit.ts"
import { wordsOf } from "../core/message/words.ts"
import { Pacer } from "./sender/pacer.ts"
import { redactCall, replaceSecrets, Seal } from "./seal.ts"

const key = Buffer.alloc(32, 7)

describe("the seal", () => {
  const seal = new Seal(key)

  test("opens what it sealed, and seals the same word differently each time", () => {
    const [one, two] = [seal.seal("1:secret"), seal.seal("1:secret")]
    expect(one).not.toBe(two)
    expect(one).not.toContain("secret")
    expect(seal.open(one)).toBe("1:secret")
  })

  test("opens nothing with another key, and nothing that was changed", () => {
    const sealed = seal.seal("1:secret")
    expect(() => new Seal(Buffer.alloc(32, 8)).open(sealed)).toThrow()
    expect(() => seal.open(sealed.slice(0, -4) + "AAAA")).toThrow()
    expect(() => seal.open("plain")).toThrow("no sealed secret")
    expect(() => new Seal(Buffer.alloc(5))).toThrow("32 bytes")
  })

  test("a kept call holds fingerprints in the place of secrets, wherever they stand", () => {
    const call = {
      address: "/in/quay?token=word-one&x=word-two&page=2",
      headers: { authorization: "Bearer abc", "x-secret-token": "guess", "x-note": "has word-two in it", host: "h" },
    }
    const kept = redactCall(call, ["word-one", "word-two"], seal)
    expect(JSON.stringify(kept)).not.toMatch(/word-one|word-two|abc|guess/)
    expect(kept.headers.host).toBe("h")
    expect(kept.address).toContain("page=2")
    // The same secret leaves the same mark, so that two calls can be compared.
    expect(redactCall(call, [], seal).headers.authorization).toBe(kept.headers.authorization)
  })

  test("a secret is masked in whatever encoding it comes back", () => {
    const encodings: ((secret: string) => string)[] = [
      (secret) => secret,
      encodeURIComponent,
      (secret) => encodeURIComponent(secret).replace(/%../g, (code) => code.toLowerCase()),
      (secret) => new URLSearchParams({ a: secret }).toString().slice(2),
      (secret) => JSON.stringify(JSON.stringify({ a: secret }).slice(6, -2)).slice(1, -1),
      (secret) => JSON.stringify(secret).slice(1, -1).replaceAll("/", "\\/"),
      (secret) => Buffer.from(secret).toString("hex"),
      (secret) => Buffer.from(secret).toString("base64"),
      (secret) => Buffer.from(secret).toString("base64url"),
      (secret) => Buffer.from(`a:${secret}`).toString("base64"),
      (secret) => Buffer.from(`ab:${secret}:x`).toString("base64"),
      (secret) => Buffer.from(`abc:${secret}`).toString("base64url"),
      (secret) => Buffer.from(Buffer.from(`a:${secret}`).toString("base64")).toString("base64"),
      (secret) => Buffer.from(`x${Buffer.from(secret).toString("base64")}`).toString("base64"),
      (secret) =>
        Buffer.from(secret)
          .toString("hex")
          .replace(/..(?=.)/g, "$& "),
      (secret) =>
        Buffer.from(secret)
          .toString("hex")
          .toUpperCase()
          .replace(/..(?=.)/g, "$&:"),
      (secret) => [...Buffer.from(secret)].map((byte) => `%${byte.toString(16).padStart(2, "0")}`).join(""),
      (secret) => inEach(secret, (code) => `\\u${code.toString(16).padStart(4, "0")}`),
      (secret) => inEach(secret, (code) => `\\u${code.toString(16).padStart(4, "0").toUpperCase()}`),
      (secret) => inEach(secret, (code) => `&#${code};`),
      (secret) => inEach(secret, (code) => `&#x${code.toString(16)};`),
      (secret) => inEach(secret, (code) => `&#x${code.toString(16).toUpperCase()};`),
      (secret) => secret.replaceAll("&", "&amp;").replaceAll("'", "&apos;"),
      (secret) => base32(secret),
      (secret) => base32(`ab${secret}`).toLowerCase(),
    ]
    const secrets = fc.string({ unit: fc.constantFrom(..."abcXYZ019-_.~/+=&:%' "), minLength: 8, maxLength: 40 })
    fc.assert(
      fc.property(secrets, fc.constantFrom(...encodings), (secret, encode) => {
        const given = `before ${encode(secret)} after`
        const masked = replaceSecrets(given, [secret], () => "•")
        expect(masked).toContain("•")
        // At most what its neighbours in base64 say, or decide together with it, is left.
        expect(masked.length).toBeLessThan("before  after".length + 16)
      }),
    )
  })

  test("words too short to be secrets are left alone", () => {
    expect(replaceSecrets("a cat", ["a"], () => "•")).toBe("a cat")
  })
})

const inEach = (text: string, write: (code: number) => string) =>
  [...text].map((character) => write(character.charCodeAt(0))).join("")

/** RFC 4648, section 6, without padding. */
function base32(text: string): string {
  const bits = [...Buffer.from(text)].map((byte) => byte.toString(2).padStart(8, "0")).join("")
  return (bits.match(/.{1,5}/g) ?? [])
    .map((five) => "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567"[Number.parseInt(five.padEnd(5, "0"), 2)])
    .join("")
}

describe("group commit", () => {
  test("gathers what comes while a batch is under way, in order, never more than the most", async () => {
    const batches: number[][] = []
    let free!: () => void
    const first = new Promise<void>((resolve) => (free = resolve))
    const gatherer = new GroupCommit<number, string>(async (items) => {
      batches.push(items)
      if (batches.length === 1) await first
      return items.map((item) => `done ${item}`)
    }, 3)
    const results = [gatherer.add(0)]
    await new Promise((resolve) => setTimeout(resolve, 5))
    for (let item = 1; item <= 4; item++) results.push(gatherer.add(item))
    free()
    expect(await Promise.all(results)).toEqual([0, 1, 2, 3, 4].map((item) => `done ${item}`))
    expect(batches).toEqual([[0], [1, 2, 3], [4]])
    await gatherer.drained()
  })

  test("a batch that fails fails its own items only", async () => {
    const gatherer = new GroupCommit<number, number>(async (items) => {
      if (items.includes(1)) throw new Error("refused")
      return items
    }, 1)
    const [bad, good] = [gatherer.add(1), gatherer.add(2)]
    await expect(bad).rejects.toThrow("refused")
    expect(await good).toBe(2)
  })
})

describe("the pace", () => {
  const say = telegram.render(
    { part: "text", text: "x" },
    { address: "1", kind: "direct" },
    { key: "q", kind: "telegram", settings: {}, secrets: {} },
  ).calls[0]!
  const react = { ...say, speaks: false }
  const at = (ms: number) => ({ steady: ms, wall: ms })
  const direct = { address: "1", kind: "direct" as const }
  const pacer = (settings: ConstructorParameters<typeof Pacer>[1] = {}) => new Pacer(telegram.pace, settings)

  test("one a second in a chat; what does not speak does not count there", () => {
    const pace = pacer()
    pace.take(direct, say, at(0), Math.random)
    expect(pace.wait(direct, say, at(0))).toBe(1000)
    expect(pace.wait(direct, react, at(0))).toBe(0)
    expect(pace.wait({ address: "2", kind: "direct" }, say, at(0))).toBe(0)
  })

  test("twenty a minute in a group", () => {
    const pace = pacer()
    const group = { address: "-1", kind: "group" as const }
    for (let sent = 0; sent < 20; sent++) pace.take(group, say, at(sent * 1000), Math.random)
    expect(pace.wait(group, say, at(20_000))).toBe(40_000)
  })

  test("a clock that was ahead for a while holds nobody up", () => {
    const pace = pacer({ pauseBetween: [2, 2] })
    pace.take(direct, say, { steady: 1000, wall: 3_600_000 }, Math.random)
    pace.hold(direct, 3, { steady: 1000, wall: 3_600_000 })
    expect(pace.wait(direct, say, { steady: 1500, wall: 1500 })).toBe(2500)
  })

  test("so many a day, then tomorrow", () => {
    const pace = pacer({ perDay: 5 })
    pace.startDayAt(4, at(0))
    expect(pace.wait(direct, say, at(0))).toBe(0)
    pace.take(direct, say, at(0), Math.random)
    expect(pace.wait({ address: "9", kind: "direct" }, say, at(3_600_000))).toBe(23 * 3_600_000)
    expect(pace.wait({ address: "9", kind: "direct" }, say, at(86_400_000))).toBe(0)
  })

  test("a pause of changing length between two messages", () => {
    const pace = pacer({ pauseBetween: [2, 6] })
    pace.take(direct, say, at(0), () => 0.5)
    expect(pace.wait({ address: "2", kind: "direct" }, say, at(0))).toBe(4000)
  })

  test("a changed setting holds at once, without forgetting the places", () => {
    const pace = pacer()
    pace.take(direct, say, at(0), Math.random)
    pace.adjust({ perSecond: 0.5 })
    expect(pace.wait(direct, say, at(0))).toBe(1000)
    pace.take({ address: "2", kind: "direct" }, say, at(0), Math.random)
    expect(pace.wait({ address: "3", kind: "direct" }, say, at(0))).toBe(2000)
  })

  test("when the provider said how long, nothing goes to that place before", () => {
    const pace = pacer()
    pace.hold(direct, 9, at(0))
    expect(pace.wait(direct, say, at(0))).toBe(9000)
    expect(pace.wait({ address: "2", kind: "direct" }, say, at(0))).toBe(0)
  })
})

test.each([
  [{ text: "boat" }, "boat"],
  [{ choice: { id: "y", label: "Yes" } }, "Yes"],
  [{ media: [{ kind: "image" as const, ref: "r" }] }, "(image)"],
  [{ location: { latitude: 1, longitude: 2, name: "Quay" } }, "(location Quay)"],
  [{ contact: { name: "Tom" } }, "(contact Tom)"],
  [{ reaction: { emoji: "👍", removed: true, to: "1" } }, "(took back 👍)"],
  [{ event: "joined" as const, people: [{ address: "8", name: "Ada", bot: false }] }, "(joined Ada)"],
  [{ event: "unknown" as const, providerEvent: "dice" }, "(dice)"],
])("in a list, %j reads %j", (message, words) => {
  expect(wordsOf({ event: "text", place: { address: "1", kind: "direct" }, ...message })).toBe(words)
})
