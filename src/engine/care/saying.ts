import { createHash } from "node:crypto"
import type { Said, Unsigned } from "../../core/channels/simulate.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { hasProfile } from "../../core/gateway/shipped.ts"
import { isObject, readJson } from "../../core/message/json.ts"
import type { Database } from "../../store/database.ts"
import { newId } from "../../store/ids.ts"
import { intakeById } from "../../store/intakeReads.ts"
import { keepSaid } from "../../store/media.ts"
import { look } from "../calls/perform.ts"
import type { KnownChannel } from "../channels.ts"
import type { Inlet } from "../inlet/inlet.ts"
import { Trouble } from "../trouble.ts"
import { wallClock } from "../process/wallClock.ts"

/** What somebody says to try a bot, without a telephone. */
export interface SayingGiven {
  text?: string
  press?: string
  media?: { data: string; mime: string; name: string }
  /** A call's body as the provider would send it, in place of everything else. */
  payload?: string
  /** The passage of a call that came before, whose words are said again as a message of their own. */
  again?: string
  from?: string
  name?: string
  place?: string
  /** Whether replies go to the provider all the same. */
  really: boolean
}

/** What became of it. */
export interface SaidView {
  /** The passage of the call. */
  passage: string
  /** What the inlet answered, which for some gateways holds the reply. */
  answered: { status: number; body?: string }
  /** Whether replies are captured: nothing leaves. */
  captured: boolean
  from: { address: string; name: string }
}

let last = 0

/** A number that no call before had, by the clock. */
function nextNumber(): number {
  last = Math.max(last + 1, wallClock("name").getTime())
  return last
}

/** Makes an inbound call as the provider would, rightly signed, and takes it in at the channel's own inlet. */
export async function say(
  parts: { database: Database; inlet: Inlet },
  known: KnownChannel,
  given: SayingGiven,
): Promise<SaidView> {
  const { row, channel } = known
  const kind = kindOf(row.kind)
  if (row.learning && Date.parse(row.learning.until) > wallClock("until").getTime())
    throw new Trouble(
      "bad-input",
      `"${row.key}" waits for a call to learn from, and a made-up one would teach it nothing.`,
      `End that first: wobbet channel learn ${row.key} --stop.`,
    )
  const cannot = kind.cannot?.(channel)
  // Without a profile nobody knows how its gateway would call.
  const no = cannot?.receive ?? (kind.schemasFor && !hasProfile(channel) ? cannot?.send : undefined)
  if (no)
    throw new Trouble("cannot-be-said", `Nothing can be said to "${row.key}": ${no}.`, "Say it on another channel.")
  const now = wallClock("signature")
  const payload = given.again === undefined ? given.payload : await bodyAgain(parts.database, known, given.again)
  const from = (given.again !== undefined && senderOf(payload!, known)) || {
    address: given.from ?? kind.simulate.person,
    name: given.name ?? "A simulated person",
  }
  const call =
    payload === undefined
      ? kind.simulate.call(await saidOf(parts.database, given, from), channel, now)
      : bodyOf(payload)
  const played =
    given.from !== undefined && !given.really && (await isPlayed(String(channel.settings.apiBase ?? ""), given.from))
  const captured = !given.really && !played
  const id = newId("itk")
  const said = {
    captured,
    ...(payload === undefined ? { name: from.name } : {}),
    ...(given.again === undefined ? {} : { again: true as const }),
  }
  const answer = await parts.inlet.receive(row.key, kind.simulate.sign(call, channel, now), now, { id, said })
  // Whoever said it has the answer, if one came inside the call.
  answer.written?.(true)
  if (answer.status === 401 || answer.status === 403)
    throw new Trouble(
      "bad-input",
      `The call could not be made as the provider would: the channel has no secret to prove it with.`,
      `wobbet channel check ${row.key} says which is missing.`,
    )
  return {
    passage: id,
    answered: { status: answer.status, ...(answer.body ? { body: answer.body } : {}) },
    captured,
    from,
  }
}

/** The body of a call that was taken in before. It is made a new call: only what was genuine may be. */
async function bodyAgain(database: Database, { row, channel }: KnownChannel, passage: string): Promise<string> {
  const found = await intakeById(database, passage)
  const no = (says: string, remedy: string) => new Trouble("bad-input", says, remedy, "again")
  const finding = `"wobbet message find" lists what was said; the passage of each can be said again.`
  if (!found) throw no(`There is no call under the passage "${passage}".`, finding)
  if (found.channel !== row.key)
    throw no(
      `That call came on the channel "${found.channel}".`,
      `Say it again there: wobbet say ${found.channel} --again …`,
    )
  if (!found.genuine) throw no("That call was refused: nobody knows who made it.", finding)
  const body = found.body.toString("utf8")
  const call = { method: "POST", address: `/in/${row.key}`, headers: found.headers, body: found.body }
  if (body === "" || kindOf(row.kind).parse(call, channel).messages.length === 0)
    throw no("Nothing was said in that call, or it is no longer kept.", finding)
  return body
}

/** Who said what a body holds. */
function senderOf(payload: string, { row, channel }: KnownChannel): Said["from"] | undefined {
  const { type, body } = bodyOf(payload)
  const call = { method: "POST", address: `/in/${row.key}`, headers: { "content-type": type }, body: Buffer.from(body) }
  const who = kindOf(row.kind)
    .parse(call, channel)
    .messages.find(({ message }) => message.from)?.message.from
  return who?.address === undefined ? undefined : { address: who.address, name: who.name ?? who.address }
}

async function saidOf(database: Database, given: SayingGiven, from: Said["from"]): Promise<Said> {
  const { text, press, place, media } = given
  return {
    ...(text === undefined ? {} : { text }),
    ...(press === undefined ? {} : { press }),
    ...(place === undefined ? {} : { place }),
    ...(media ? { media: await kept(database, media) } : {}),
    from,
    number: nextNumber(),
  }
}

/** Keeps a file that is sent with it: it lies here already, and is fetched from nowhere. */
async function kept(
  database: Database,
  { data, mime, name }: NonNullable<SayingGiven["media"]>,
): Promise<Said["media"] & object> {
  const content = Buffer.from(data, "base64")
  const hash = createHash("sha256").update(content).digest("hex")
  await keepSaid(database, { hash, mime, content })
  return { ref: `https://said.invalid/${hash}`, mime, name, size: content.length }
}

function bodyOf(payload: string): Unsigned {
  const text = payload.trim()
  if (text.startsWith("<")) return { type: "application/xml", body: text }
  return /^[[{]/.test(text)
    ? { type: "application/json", body: text }
    : { type: "application/x-www-form-urlencoded", body: text }
}

/** Milliseconds and bytes in which a stand-in tells whom it plays. */
const people = { within: 1000, most: 1_000_000 }

/**
 * Whether a stand-in on this machine plays a person: replies may go to them. Whatever else answers there may be a real
 * provider's, behind a proxy of its own.
 */
async function isPlayed(base: string, person: string): Promise<boolean> {
  if (!URL.canParse(base) || !/^(localhost|127\.|\[::1\])/.test(new URL(base).hostname)) return false
  try {
    const { status, body } = await look(new URL("/standin/people", base).href, {}, people)
    const played: unknown = status === 200 ? readJson(Buffer.from(body)) : undefined
    const plain = (id: unknown) => String(id).replace(/^\+/, "")
    return Array.isArray(played) && played.some((one) => isObject(one) && plain(one.id) === plain(person))
  } catch {
    return false
  }
}
