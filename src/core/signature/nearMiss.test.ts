import { createHash, createHmac } from "node:crypto"
import type { Channel } from "../channels/kind.ts"
import type { InboundCall } from "../channels/call.ts"
import { kindOf } from "../channels/registry.ts"
import { addressNeighbours } from "./addresses.ts"
import { nearMiss } from "./nearMiss.ts"
import type { OwnedSecret } from "./secrets.ts"

const secret = "tern-point-secret-1"
const base = "https://bot.ferry.example"
const utf8 = (text: string) => Buffer.from(text, "utf8")

const whatsapp: Channel = {
  key: "quay-whatsapp",
  kind: "whatsapp",
  settings: {},
  secrets: { appSecret: secret, verifyToken: "the-agreed-word", accessToken: "token-for-sending" },
  publicBase: base,
}
const form: Channel = {
  key: "quay-sms",
  kind: "sms",
  settings: { profile: "form-gateway", accountId: "AC1", signatureHeader: "x-gateway-signature" },
  secrets: { authToken: secret },
  publicBase: base,
}
const telegram: Channel = { key: "quay-telegram", kind: "telegram", settings: {}, secrets: { hookSecret: secret } }
const elsewhere: OwnedSecret[] = [
  { channel: "quay-whatsapp", name: "appSecret", value: secret },
  { channel: "quay-whatsapp", name: "accessToken", value: "token-for-sending" },
  { channel: "holm-messenger", name: "appSecret", value: "another-app-secret" },
]

const hmac = (algorithm: string, key: string, over: string | Buffer, encoding: "hex" | "base64" = "hex") =>
  createHmac(algorithm, key).update(over).digest(encoding)

/** A call of WhatsApp, signed as it left the provider, with the body as it arrived. */
function hub(arrived: string, signed: string, key = secret): InboundCall {
  const headers = { "x-hub-signature-256": `sha256=${hmac("sha256", key, utf8(signed))}` }
  return { method: "POST", address: "/in/quay-whatsapp", headers, body: utf8(arrived) }
}

/** A form gateway's call, signed over the address it meant and received under ours. */
function signedForm(
  meant: string,
  options: { headers?: { [name: string]: string }; address?: string } = {},
): InboundCall {
  const body = "Body=Next+boat%3F&From=%2B447700900123&MessageSid=SM1"
  const fields = "BodyNext boat?From+447700900123MessageSidSM1"
  const address = options.address ?? "/in/quay-sms"
  return {
    method: "POST",
    address,
    headers: {
      "content-type": "application/x-www-form-urlencoded",
      "x-gateway-signature": hmac("sha1", secret, meant + fields, "base64"),
      ...options.headers,
    },
    body: utf8(body),
  }
}

function explain(call: InboundCall, channel: Channel, secrets = elsewhere) {
  const kind = kindOf(channel.kind)
  const verdict = kind.verify(call, channel, new Date())
  expect(verdict.genuine).toBe(false)
  return nearMiss(kind.proof(call, channel)!, call, channel, secrets)
}

const near = (says: string) => ({
  near: expect.stringContaining(says) as unknown,
  remedy: expect.any(String) as unknown,
})

describe("the address", () => {
  test.each([
    ["http://bot.ferry.example/in/quay-sms", {}, "http instead of https"],
    ["https://bot.ferry.example:443/in/quay-sms", {}, "with the port 443 (https) written out"],
    ["https://bot.ferry.example/in/quay-sms/", {}, "with a slash at the end"],
    ["http://bot.ferry.example/in/quay-sms/", {}, "http instead of https, with a slash at the end"],
    ["https://ferry.example/in/quay-sms", { headers: { host: "ferry.example" } }, "the host ferry.example"],
    [
      "https://ferry.example/in/quay-sms",
      { headers: { "x-forwarded-host": "ferry.example:8443" } },
      "the host ferry.example",
    ],
    [
      "https://bot.ferry.example:8443/in/quay-sms",
      { headers: { host: "bot.ferry.example:8443" } },
      "the port of bot.ferry.example:8443",
    ],
    ["https://bot.ferry.example/in/quay-sms", { address: "/in/quay-sms?from=north" }, "without the query"],
    [
      "https://bot.ferry.example/in/quay-sms?to=Seal bay",
      { address: "/in/quay-sms?to=Seal%20bay" },
      "with the query decoded",
    ],
  ])("was signed as %s", (meant, options, says) => {
    expect(explain(signedForm(meant, options), form)).toEqual(near(says))
  })

  test("without a port, where ours has one", () => {
    const ours = { ...form, publicBase: "https://bot.ferry.example:8443" }
    expect(explain(signedForm("https://bot.ferry.example/in/quay-sms"), ours)).toEqual(near("without the port 8443"))
  })

  test("says what to set, and never the query, which may carry a word", () => {
    const call = signedForm("http://bot.ferry.example/in/quay-sms?word=hush", { address: "/in/quay-sms?word=hush" })
    const found = explain(call, form)
    expect(found).toEqual({
      ...near("http instead of https"),
      remedy: expect.stringContaining("--set publicUrl=http://bot.ferry.example") as unknown,
    })
    expect(JSON.stringify(found)).not.toContain("hush")
  })
})

test("a caller that names thousands of hosts keeps nobody busy", () => {
  const named = Array.from({ length: 3000 }, (_none, n) => `h${n}`).join(",")
  const found = addressNeighbours("https://bot.ferry.example/in/quay?a=%20", { "x-forwarded-host": named })
  expect(found.length).toBeLessThan(100)
})

describe("the body", () => {
  const text = '{"to":"Höfn/1","n":[1,2]}'
  test.each([
    ["a\nb", "a\r\nb", "line ends of Windows"],
    ["a\r\nb", "a\nb", "line ends of Unix"],
    ["a", "a\n", "with a line end behind it"],
    [" a\n", "a", "without the spaces or line ends around it"],
    ["\uFEFFa", "a", "byte order mark"],
    [text, '{"to":"H\\u00f6fn/1","n":[1,2]}', "characters outside ASCII escaped"],
    [text, '{"to":"H\\u00f6fn\\/1","n":[1,2]}', "slashes and characters outside ASCII escaped"],
    ['{"to":"H\\u00f6fn/1","n":[1,2]}', text, "escaped characters written out"],
    ['{"a":"b\\/c"}', '{"a":"b/c"}', "slashes not escaped"],
    ['{ "to": "x", "n": [1, 2] }', '{"to":"x","n":[1,2]}', "as compact JSON"],
    ['{"to":"x, y","n":[1,2]}', '{"to": "x, y", "n": [1, 2]}', "a space after every colon and comma"],
    ['{"n":1}', '{\n  "n": 1\n}', "indented by two"],
  ])("came as %j and was signed as %j", (arrived, signed, says) => {
    expect(explain(hub(arrived, signed), whatsapp)).toEqual(near(says))
  })

  test("of a form may have other spaces or line ends", () => {
    const call = signedForm("https://bot.ferry.example/in/quay-sms")
    const fields = "Bodytwo\nlinesMessageSidSM1"
    const signature = hmac("sha1", secret, `${base}/in/quay-sms${fields}`, "base64")
    const arrived = { ...call, body: utf8("Body=two%0D%0Alines&MessageSid=SM1") }
    arrived.headers = { ...call.headers, "x-gateway-signature": signature }
    expect(explain(arrived, form)).toEqual(near("line ends of Unix in its fields"))
  })
})

describe("the secret", () => {
  const withSecret = (own: string): Channel => ({ ...whatsapp, secrets: { ...whatsapp.secrets, appSecret: own } })
  test.each([
    [` ${secret}`, secret, "without the spaces or line ends around our appSecret"],
    [`${secret}\n`, secret, "without the spaces or line ends around our appSecret"],
    [`"${secret}"`, secret, "without the quotation marks around our appSecret"],
    [secret, `${secret}\n`, "with a line end behind our appSecret"],
    [secret, `${secret}\r\n`, "with a line end (CRLF) behind our appSecret"],
    [secret, `${secret} `, "with a space behind our appSecret"],
    [secret.toUpperCase(), secret, "in small letters"],
    [secret, "token-for-sending", "under this channel's accessToken"],
    [secret, "another-app-secret", "under the appSecret of the channel holm-messenger"],
  ])("is %j here and %j there", (own, theirs, says) => {
    const found = explain(hub("{}", "{}", theirs), withSecret(own))
    expect(found).toEqual(near(says))
    for (const word of [secret, "token-for-sending", "another-app-secret"])
      expect(JSON.stringify(found)).not.toContain(word)
  })

  test("that is a different one matches none, and that is said", () => {
    const found = explain(hub("{}", "{}", "nobody knows this"), whatsapp)
    expect(found).toEqual({
      tried: expect.stringMatching(/^None of \d+ near ones would match either: most likely appSecret/) as unknown,
    })
  })
})

describe("the writing of the hash", () => {
  const json: Channel = {
    key: "quay-json",
    kind: "sms",
    settings: { profile: "plain-json", signatureHeader: "x-signature" },
    secrets: { signingSecret: secret },
  }
  const call = (signature: string): InboundCall => ({
    method: "POST",
    address: "/in/quay-json",
    headers: { "x-signature": signature },
    body: utf8("{}"),
  })
  test.each([
    [hmac("sha256", secret, "{}", "base64"), "as base64"],
    [hmac("sha1", secret, "{}"), "made with SHA1"],
    [hmac("sha512", secret, "{}"), "made with SHA512"],
    [`"${hmac("sha256", secret, "{}")}"`, "without quotation marks"],
    [`hmac=${hmac("sha256", secret, "{}")}`, "without what stands before ="],
  ])("%s", (signature, says) => {
    expect(explain(call(signature), json)).toEqual(near(says))
  })

  test("hexadecimal where base64 is expected", () => {
    const fields = "BodyNext boat?From+447700900123MessageSidSM1"
    const hex = hmac("sha1", secret, `${base}/in/quay-sms${fields}`)
    const sent = signedForm(`${base}/in/quay-sms`, { headers: { "x-gateway-signature": hex } })
    expect(explain(sent, form)).toEqual(near("as hexadecimal"))
  })
})

describe("a word", () => {
  const call = (given: string): InboundCall => ({
    method: "POST",
    address: "/in/quay-telegram",
    headers: { "x-telegram-bot-api-secret-token": given },
    body: utf8("{}"),
  })
  test.each([
    [`${secret} `, "around the word in the call"],
    [secret.toUpperCase(), "upper and lower case"],
    [`"${secret}"`, undefined],
    ["token-for-sending", "under the accessToken of the channel quay-whatsapp"],
    [encodeURIComponent("tern point"), undefined],
  ])("%j", (given, says) => {
    const found = explain(call(given), telegram)
    if (says === undefined) expect(found).toHaveProperty("tried")
    else expect(found).toEqual(near(says))
    expect(JSON.stringify(found)).not.toContain(secret)
  })
})

test("a call that carries nothing has no neighbours: the verdict says that the header comes only once a secret is set", () => {
  const call: InboundCall = { method: "POST", address: "/in/quay-telegram", headers: {}, body: utf8("{}") }
  expect(kindOf("telegram").proof(call, telegram)).toBeUndefined()
  expect(kindOf("telegram").verify(call, telegram, new Date())).toMatchObject({
    genuine: false,
    remedy: expect.stringContaining("only once a secret is registered") as unknown,
  })
})

test("a time that is off is told in minutes, where everything else is right", () => {
  const slack: Channel = { key: "quay-desk", kind: "slack", settings: {}, secrets: { signingSecret: secret } }
  const now = new Date("2026-11-23T12:00:00Z")
  const time = String(now.getTime() / 1000 - 7 * 60)
  const headers = {
    "x-slack-request-timestamp": time,
    "x-slack-signature": `v0=${hmac("sha256", secret, `v0:${time}:{}`)}`,
  }
  const call: InboundCall = { method: "POST", address: "/in/quay-desk", headers, body: utf8("{}") }
  expect(kindOf("slack").verify(call, slack, now)).toMatchObject({
    genuine: false,
    near: "It would match if the clocks agreed: yours is 7 minutes ahead of the call's.",
  })
})

test("a handshake with the wrong word is told by lengths and place, never by the words", () => {
  const query = "hub.mode=subscribe&hub.verify_token=the-agreed-wort&hub.challenge=1"
  const call: InboundCall = { method: "GET", address: `/in/quay-whatsapp?${query}`, headers: {}, body: utf8("") }
  const verdict = kindOf("whatsapp").verify(call, whatsapp, new Date())
  expect(verdict).toMatchObject({
    why: expect.stringContaining(
      "the received one has 15 characters, this channel's 15; they differ first at position 15",
    ) as unknown,
  })
  expect(JSON.stringify(verdict)).not.toMatch(/agreed-wor/)
})

test("a sorted hash finds the word with a line end behind it", () => {
  const hashed = createHash("sha1")
    .update(["17", "n1", `${secret}\n`].sort().join(""))
    .digest("hex")
  const channel: Channel = {
    key: "light",
    kind: "custom",
    settings: {},
    secrets: { sharedWord: secret },
    profile: sortedProfile(),
  }
  const call: InboundCall = {
    method: "POST",
    address: `/in/light?signature=${hashed}&timestamp=17&nonce=n1`,
    headers: {},
    body: utf8("<xml><From>a</From><Text>b</Text></xml>"),
  }
  expect(explain(call, channel)).toEqual(near("with a line end behind our sharedWord"))
})

function sortedProfile(): NonNullable<Channel["profile"]> {
  return {
    profile: "light",
    title: "t",
    addresses: "names",
    settings: {},
    secrets: { sharedWord: { says: "w" } },
    inbound: {
      body: "xml",
      verify: [
        {
          scheme: "sorted-hash",
          secret: "sharedWord",
          query: "signature",
          of: ["timestamp", "nonce"],
          algorithm: "sha1",
          encoding: "hex",
        },
      ],
      repeats: false,
      answer: { status: 200 },
      message: { from: "/xml/From", text: "/xml/Text" },
    },
    tells: false,
  }
}

test("a large forged call is not searched for long", () => {
  const body = Buffer.alloc(3_000_000, "a")
  const call: InboundCall = { ...hub("{}", "{}", "wrong"), body }
  const found = nearMiss(kindOf("whatsapp").proof(call, whatsapp)!, call, whatsapp, elsewhere)
  expect(found).toEqual({ tried: expect.stringContaining("Not all could be tried") as unknown })
})
