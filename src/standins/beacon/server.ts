import { createHash } from "node:crypto"
import type { FastifyInstance } from "fastify"
import { XMLBuilder, XMLParser } from "fast-xml-parser"
import type { Body, Played, Stage } from "../shared/standin.ts"
import { act, jsonOf, playStandin, Refusal, withFault } from "../shared/standin.ts"

/**
 * A made-up gateway of its own kind: it makes sure of an address by a hash of the agreed word with a time and a salt,
 * speaks XML, and wants its answer inside the call that brought the message.
 */
export type BeaconStandin = Played<World>

export interface BeaconScene {
  /** The name it is called by there. */
  account: string
  /** The word both sides know. */
  word: string
  /** The key for sending by its API. */
  key: string
  people: { id: string; name: string }[]
}

export interface World extends Omit<BeaconScene, "people"> {
  /** Where calls go, once the handshake was answered. */
  hook?: string
  /** Seconds it waits for an answer inside its call. */
  patience: number
  /** Every answer it got inside a call. */
  inside: { status: number; body: string; ms: number }[]
}

const builder = new XMLBuilder({})
const parser = new XMLParser({ parseTagValue: false })

export async function startBeacon(scene: BeaconScene, options: { port?: number } = {}): Promise<BeaconStandin> {
  const { people, ...rest } = scene
  const world: World = { ...rest, patience: 3, inside: [] }
  return playStandin("A receiver at the beacon stand-in", people, world, options.port, (app, stage) => {
    serveOut(app, stage, world)
    servePeople(app, stage, world)
  })
}

/** The address with what proves a call: a hash over the word, the time and the salt, sorted and joined. */
function proven(hook: string, word: string, stage: Stage, more: { [name: string]: string } = {}): string {
  const at = String(Math.floor(Date.now() / 1000))
  const salt = `s${stage.number().toString(36)}`
  const seal = createHash("sha1").update([word, at, salt].sort().join("")).digest("hex")
  const url = new URL(hook)
  for (const [name, value] of Object.entries({ seal, at, salt, ...more })) url.searchParams.set(name, value)
  return url.href
}

function servePeople(app: FastifyInstance, stage: Stage, world: World): void {
  // What its owner enters in its pages: the address is called at once, and refused if the echo does not come back.
  act(app, "hook", async ({ url, word }) => {
    if (typeof word === "string") world.word = word
    const echo = `held ${stage.number()}`
    const answer = await fetch(proven(String(url), world.word, stage, { echo }), { signal: AbortSignal.timeout(5000) })
    const text = await answer.text()
    if (answer.status !== 200 || text !== echo)
      throw new Refusal(400, `the address did not give the echo back: ${answer.status} ${text.slice(0, 80)}`)
    world.hook = String(url)
    return { done: true }
  })
  act(app, "say", (body) => say(stage, world, body))
  act(app, "patience", ({ seconds }) => {
    world.patience = Number(seconds)
  })
}

/** A person's words go out in one call; what comes back inside it is what they see. */
async function say(stage: Stage, world: World, { from, text, raw, word }: Body): Promise<object> {
  if (!world.hook) throw new Refusal(409, "no address is on record")
  const id = String(stage.number())
  stage.show(String(from), { id, mine: true, text: String(text) })
  const tree = {
    call: { Id: id, From: from, To: world.account, At: Math.floor(Date.now() / 1000), Kind: "words", Text: text },
  }
  const begun = Date.now()
  const answer = await fetch(proven(world.hook, typeof word === "string" ? word : world.word, stage), {
    method: "POST",
    headers: { "content-type": "application/xml" },
    body: typeof raw === "string" ? raw : String(builder.build(tree)),
    signal: AbortSignal.timeout(world.patience * 1000 + 2000),
  })
  const taken = { status: answer.status, body: await answer.text(), ms: Date.now() - begun }
  world.inside.push(taken)
  if (taken.ms <= world.patience * 1000 && taken.status === 200 && taken.body !== "")
    showAnswer(stage, world, taken.body)
  return taken
}

function showAnswer(stage: Stage, world: World, body: string): void {
  const { call } = parser.parse(body) as { call?: { From?: string; To?: string; Text?: string } }
  if (!call || call.From !== world.account || call.To === undefined || !stage.people.has(call.To))
    throw new Refusal(500, `the answer inside the call is not what this gateway reads: ${body.slice(0, 200)}`)
  stage.show(call.To, {
    id: `B${stage.number()}`,
    mine: false,
    text: String(call.Text ?? ""),
    status: "inside the call",
  })
}

/** Late words may go by its API, too. */
function serveOut(app: FastifyInstance, stage: Stage, world: World): void {
  app.post("/out", async (request, reply) => {
    if (request.headers["x-beacon-key"] !== world.key) throw new Refusal(401, "who are you?", { fault: "unknown key" })
    const body = jsonOf(request)
    return withFault(
      stage,
      reply,
      (fault, seconds) => new Refusal(Number(fault), fault, { fault: "busy" }, { "retry-after": String(seconds) }),
      () => {
        const person = stage.people.get(String(body.to))
        if (!person) throw new Refusal(400, "nobody", { fault: "no such receiver", code: "NOBODY" })
        if (typeof body.words !== "string" || body.words === "" || body.words.length > 600)
          throw new Refusal(400, "length", { fault: "words are 1 to 600 characters", code: "LENGTH" })
        const id = `B${stage.number()}`
        stage.show(person.id, { id, mine: false, text: body.words, status: "by the API" })
        stage.record("out", body, 200, true)
        return { ref: id }
      },
    )
  })
  app.get("/me", async (request) => {
    if (request.headers["x-beacon-key"] !== world.key) throw new Refusal(401, "who are you?", { fault: "unknown key" })
    return { name: world.account, state: "lit" }
  })
}
