import type { Came } from "../support/gateway.ts"
import { startGateway } from "../support/gateway.ts"
import type { Standin } from "../support/harness.ts"
import { endAll, eventually, placeFor, query, Stage, startProcess, startStandin } from "../support/harness.ts"

afterAll(endAll)

const modelKey = "sk-harbour/0123+4567=&'x"
const signingKey = "whsec_b2ZmaWNlIGtleSBmb3IgdGhlIGZlcnJ5ISE="

/** A key as whoever was asked may say it back. */
const inEach = (text: string, write: (code: string) => string) =>
  [...text].map((one) => write(one.charCodeAt(0).toString(16).padStart(2, "0"))).join("")
const encodings: ((key: string) => string)[] = [
  (key) => key,
  encodeURIComponent,
  (key) => new URLSearchParams({ a: key }).toString().slice(2),
  (key) => Buffer.from(key).toString("base64"),
  (key) => Buffer.from(`ab${key}`).toString("base64url"),
  (key) => Buffer.from(Buffer.from(key).toString("base64")).toString("base64"),
  (key) => Buffer.from(key).toString("hex"),
  (key) =>
    Buffer.from(key)
      .toString("hex")
      .replace(/..(?=.)/g, "$& "),
  (key) => inEach(key, (code) => `%${code}`),
  (key) => inEach(key, (code) => `\\u00${code}`),
  (key) => inEach(key, (code) => `&#x${code};`),
  (key) => key.replaceAll("&", "&amp;").replaceAll("'", "&apos;"),
]

/** What says the key back: each field of each sort of answer, in turn. */
const shapes: ((words: string) => { status: number; headers?: { [name: string]: string }; body: unknown })[] = [
  (words) => ({ status: 401, body: { error: { message: `Incorrect API key provided: ${words}`, type: words } } }),
  (words) => ({ status: 500, body: { error: words } }),
  (words) => ({ status: 500, body: `<html>${words}</html>` }),
  (words) => ({ status: 400, body: { [words]: words } }),
  (words) => ({ status: 302, headers: { location: `http://127.0.0.1:9/${encodeURIComponent(words)}` }, body: words }),
  (words) => ({ status: 200, body: { choices: [{ message: { role: "assistant", content: words } }] } }),
  (words) => ({
    status: 200,
    body: { choices: [{ finish_reason: words, message: { content: null, refusal: words } }] },
  }),
  (words) => ({ status: 200, body: { replies: words, [words]: 1 } }),
  (words) => ({ status: 200, body: { replies: words, state: { kept: words }, contact: { note: words } } }),
  (words) => ({ status: 200, body: { replies: [{ part: words, text: words }] } }),
  (words) => ({
    status: 429,
    headers: { "retry-after": words.replace(/[^ -~]/g, "") },
    body: { error: { message: words } },
  }),
  (words) => ({
    status: 200,
    headers: { "content-type": "text/event-stream" },
    body: `data: {"error":{"message":"${words}"}}\n\n`,
  }),
]

test("whatever whoever is asked says back, in any field and encoding, no key is kept, logged, shown or said", async () => {
  const standin: Standin = await startStandin()
  let turn = 0
  const parrot = await startGateway(({ url }: Came, response) => {
    const shape = shapes[turn % shapes.length]!
    const encode = encodings[Math.floor(turn / shapes.length + turn) % encodings.length]!
    turn++
    const {
      status,
      headers = {},
      body,
    } = shape(`it was ${encode(url.includes("chat") ? modelKey : signingKey)}, was it`)
    response.writeHead(status, {
      "content-type": "application/json",
      ...headers,
    })
    response.end(typeof body === "string" ? body : JSON.stringify(body))
    return undefined
  })
  const where = await placeFor({
    "bot.yaml": `
bot: tern
turnsPerMinute: 1000
models: { parrot: { address: "${parrot.address}/v1", model: small, key: MODEL_KEY } }
routes:
  - { name: model, when: { phrase: "model $integer{n}" }, handler: { model: parrot, instructions: be.md, within: 1s, fallback: "No model." } }
  - { name: office, when: { phrase: "office $integer{n}" }, handler: { endpoint: "${parrot.address}/ask", secret: SIGNING_KEY, within: 1s, fallback: "No office." } }
`,
    "be.md": "Be short.",
  })
  const service = await startProcess({ ...where, env: { WOBBET_PRIVATE_NETWORKS: "127.0.0.1" } })
  await service.client.setSecret("MODEL_KEY", { value: modelKey, bot: "tern" })
  await service.client.setSecret("SIGNING_KEY", { value: signingKey, bot: "tern" })
  await eventually(async () => (await service.client.bot()).release !== undefined, "the bot", 30)
  const stages = await Promise.all(
    Array.from({ length: 6 }, () => Stage.set(service, standin, { gather: 0, perSecond: 1000 })),
  )
  await Promise.all(
    stages.map(async (stage, at) => {
      for (let n = 1; n <= 12; n++) {
        await stage.say(`${at % 2 === 0 ? "model" : "office"} ${n}`)
        await stage.answered(n)
      }
    }),
  )
  expect(turn).toBeGreaterThan(shapes.length * 2)
  const tables = await query<{ name: string }>(
    where.database,
    "SELECT c.oid::regclass::text AS name FROM pg_class c WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('r', 'p')",
  )
  const dump = await Promise.all(
    tables.map(async ({ name }) => JSON.stringify(await query(where.database, `SELECT t::text FROM ${name} t`))),
  )
  const read = async (path: string) =>
    (await fetch(`${service.address}${path}`, { headers: { authorization: `Bearer ${service.token}` } })).text()
  const { items } = await service.client.messages({ direction: "in", limit: 200 })
  const answers = await Promise.all(
    [
      "/metrics",
      ...["endpoints", "models", "parked", "messages?limit=200", "conversations", "bot"].map((one) => `/api/v1/${one}`),
    ]
      .concat(items.map(({ id }) => `/api/v1/passages/${id}`))
      .map(read),
  )
  const said = (await Promise.all(stages.map((stage) => stage.answers()))).flat().map(({ text }) => text)
  const everything = [...dump, ...answers, ...said, service.said()].join("\n").replaceAll('\\"', '"')
  const found = [modelKey, signingKey].flatMap((key) =>
    encodings
      .map((encode) => encode(key))
      .filter((form) => everything.includes(form) || everything.includes(form.replaceAll("\\", "\\\\"))),
  )
  expect(found).toEqual([])
}, 120_000)
