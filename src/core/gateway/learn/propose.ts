import type { InboundCall } from "../../channels/call.ts"
import { isObject } from "../../message/json.ts"
import type { AccountState, BodyForm, Handshake, MessagePlaces, StatusPlaces } from "../profile.ts"
import { onlyOf, stateIn, statusIn, toldBy } from "./events.ts"
import { certainProofs, likelyProofs } from "./proofs.ts"
import { rolesIn } from "./roles.ts"
import type { FieldRole, ProofGuess, ReadSample, SampleField } from "./sample.ts"
import { echoField, readSample } from "./sample.ts"

export interface Proposal {
  body: BodyForm
  /** Of the first sample that is a message. */
  fields: SampleField[]
  roles: { [role in FieldRole]?: string }
  /** What tells our own words, which such gateways send back, from other people's. */
  own?: OwnMark
  proofs: ProofGuess[]
  /** What else the samples tell, as it stands in a profile. */
  more: Further
  /** What cannot be proposed, in words. */
  lacks: string[]
  /** What was proposed and may be wrong, in words: a person should look. */
  doubts: string[]
}

/** What samples tell beside sender and text. */
export interface Further {
  message?: Pick<MessagePlaces, "only" | "group" | "mention" | "media">
  status?: StatusPlaces
  state?: Omit<AccountState, "remedy">
  handshake?: Handshake
}

/** A field that says whose words they are, and the values with which they are our own. */
export interface OwnMark {
  where: string
  values: (string | boolean)[]
}

/** What is known of the account whose samples are read. */
export interface Ours {
  secrets: { [name: string]: string }
  /** The account's number, where it is known: it is never the sender. */
  number?: string | undefined
  /** Settings by which a call may name the account, such as its id there. */
  settings?: { [name: string]: unknown }
  publicBase: string
}

/**
 * Reads samples that nobody has described yet: their fields, which of them are most likely the sender, the text and the
 * rest, what else they tell, and by what the calls seem to be proven. With several samples, reports of delivery and the
 * account's states are told from messages.
 */
export function propose(calls: InboundCall[], ours: Ours): Proposal {
  const checks = calls.filter((call) => echoField(call) !== undefined)
  const samples = calls.filter((call) => !checks.includes(call)).map(readSample)
  const messages = samples.filter((sample) => toldBy(sample) === "message")
  const statuses = samples.filter((sample) => toldBy(sample) === "status")
  const states = samples.filter((sample) => toldBy(sample) === "state")
  const first = messages[0] ?? samples[0]
  const none = { fields: [], roles: {}, proofs: [], more: {}, doubts: [] }
  if (!first) return { ...none, body: "json", lacks: ["no message has come yet: only a check of the address"] }
  const { body, fields, unreadable } = first
  if (unreadable !== undefined) return { ...none, body, lacks: [unreadable] }
  const lacks: string[] = []
  const others = messages.slice(1).map((one) => one.fields)
  const { found, how, doubts } = rolesIn(fields, ours.number, others)
  if (messages.length === 0) lacks.push("none of the samples is a message: let somebody write to the gateway")
  if (found.from === undefined) lacks.push("none of the fields looks like a sender: name it")
  if (found.text === undefined) lacks.push("none of the fields looks like a text: name it")
  if (found.id === undefined)
    lacks.push("none of the fields looks like the message's id: without one, a call that is repeated counts as new")
  const proofs = proofsOf([first, ...samples.filter((one) => one !== first)], ours)
  if (proofs.length === 0)
    lacks.push("nothing in the call proves that it is genuine: give the gateway a word to repeat in the address")
  const own = ownIn(fields)
  const byWhere = new Map(Object.entries(found).map(([role, where]) => [where, role as FieldRole]))
  const media = attachmentsIn(first)
  if (media) delete found.media
  return {
    body,
    fields: fields.map((field) => ({
      ...field,
      ...(byWhere.has(field.where) ? { role: byWhere.get(field.where)!, ...how[byWhere.get(field.where)!] } : {}),
    })),
    roles: found,
    ...(own ? { own } : {}),
    proofs,
    more: furtherIn({ messages, statuses, states, checks }, media, ours),
    lacks,
    doubts,
  }
}

function proofsOf(samples: ReadSample[], ours: Ours): ProofGuess[] {
  const certain = samples.flatMap((one) => certainProofs(one, ours.secrets, ours.publicBase))
  const likely = samples.slice(0, 1).flatMap(({ call }) => likelyProofs(call))
  const all = [...certain, ...likely]
  // A word nothing repeats yet can still be given to the gateway as a part of our address.
  if (all.length === 0 && ours.secrets.sharedWord !== undefined)
    all.push({
      scheme: { scheme: "word", secret: "sharedWord", query: "word" },
      certain: false,
      says: "nothing in the call proves it: give the gateway our address with the word in it (…?word=…)",
    })
  const same = (a: ProofGuess, b: ProofGuess) => JSON.stringify(a.scheme) === JSON.stringify(b.scheme)
  return all.filter((one, at) => all.findIndex((other) => same(one, other)) === at)
}

function furtherIn(
  told: { messages: ReadSample[]; statuses: ReadSample[]; states: ReadSample[]; checks: InboundCall[] },
  media: MessagePlaces["media"] | undefined,
  ours: Ours,
): Further {
  const { messages, statuses, states, checks } = told
  const [first] = messages
  const only = { ...onlyOf(messages, [...statuses, ...states]), ...(first ? accountIn(first.fields, ours) : {}) }
  const status = statusIn(statuses, onlyOf(statuses, [...messages, ...states]))
  const state = stateIn(states, onlyOf(states, [...messages, ...statuses]))
  const echo = checks[0] && echoField(checks[0])
  const message = {
    ...(Object.keys(only).length > 0 ? { only } : {}),
    ...(first ? groupIn(first.fields) : {}),
    ...(first ? mentionIn(first, ours) : {}),
    ...(media ? { media } : {}),
  }
  return {
    ...(Object.keys(message).length > 0 ? { message } : {}),
    ...(status ? { status } : {}),
    ...(state ? { state } : {}),
    ...(echo ? { handshake: { method: "GET" as const, echo } } : {}),
  }
}

/** Where a call names the account by one of its settings: calls of other accounts are then not this channel's. */
function accountIn(fields: SampleField[], { settings = {} }: Ours): MessagePlaces["only"] {
  const own = Object.entries(settings).filter(
    ([name, value]) =>
      /account|instance|session|device|workspace|line|box/i.test(name) && typeof value === "string" && value.length > 2,
  )
  const found = fields.flatMap(({ where, value }) =>
    own.filter(([, setting]) => setting === value).map(([name]): [string, string[]] => [where, [`{${name}}`]]),
  )
  return found.length > 0 ? Object.fromEntries(found.slice(0, 1)) : {}
}

function groupIn(fields: SampleField[]): Pick<MessagePlaces, "group"> {
  const found = fields.find(
    ({ where, value }) => /^(is_?group|group)$/i.test(lastOf(where)) && /^(true|false)$/.test(value),
  )
  return found ? { group: { [found.where]: [true] } } : {}
}

/** A list of who was mentioned, or a word that says that we were. */
function mentionIn({ tree, fields }: ReadSample, { number }: Ours): Pick<MessagePlaces, "mention"> {
  const said = fields.find(
    ({ where, value }) => /mention(ed|s_?(me|bot))?$/i.test(lastOf(where)) && /^(true|false)$/.test(value),
  )
  if (said) return { mention: { [said.where]: [true] } }
  const list = listsIn(tree, "").find(({ where }) => /mention/i.test(lastOf(where)))
  return list && number !== undefined ? { mention: { [list.where]: ["{number}"] } } : {}
}

/** A list of attachments, each with an address or an id of its own. */
function attachmentsIn({ tree }: ReadSample): MessagePlaces["media"] {
  for (const { where, items } of listsIn(tree, "")) {
    const [first] = items
    if (!isObject(first) || !/media|attach|file|image/i.test(lastOf(where))) continue
    const entries = Object.entries(first)
    const named = (pattern: RegExp, fits: (value: unknown) => boolean) =>
      entries.find(([name, value]) => pattern.test(name) && fits(value))?.[0]
    const text = (value: unknown) => typeof value === "string" || typeof value === "number"
    const address = named(/url|link|address|href|src/i, (value) => /^https?:/.test(String(value)))
    const id = address === undefined ? named(/^id$|_id$|Id$|uid|key/, text) : undefined
    if (address === undefined && id === undefined) continue
    const mime = named(/mime|content_?type|type/i, (value) => /^[\w.+-]+\/[\w.+-]+$/.test(String(value)))
    const name = named(/name/i, text)
    const size = named(/size|bytes|length/i, text)
    return {
      each: where,
      ...(address === undefined ? { id: `/${id!}` } : { address: `/${address}` }),
      ...(mime ? { mime: `/${mime}` } : {}),
      ...(name ? { name: `/${name}` } : {}),
      ...(size ? { size: `/${size}` } : {}),
    }
  }
  return undefined
}

function listsIn(value: unknown, where: string, depth = 0): { where: string; items: unknown[] }[] {
  if (typeof value !== "object" || value === null || depth > 8) return []
  const own = Array.isArray(value) ? [{ where, items: value as unknown[] }] : []
  const inner = Object.entries(value)
    .slice(0, 100)
    .flatMap(([name, one]) => listsIn(one, `${where}/${name}`, depth + 1))
  return [...own, ...inner].slice(0, 50)
}

function lastOf(where: string): string {
  return where.split("/").at(-1) ?? where
}

/** Fields that say whether words are our own, by what gateways call them. */
const ownNames =
  /^(from_?me|is_?own|own|self|is_?self|is_?echo|echo|outgoing|is_?outgoing|sent_?by_?me|by_?me|is_?sender)$/i
const directionNames = /^(direction|dir|way|flow)$/i

/** What tells our own words: the sample is another person's, so ours have the other value. */
function ownIn(fields: SampleField[]): OwnMark | undefined {
  for (const { where, value } of fields) {
    const last = lastOf(where)
    if (ownNames.test(last) && /^(true|false|0|1|yes|no)$/i.test(value))
      return { where, values: /^(0|1)$/.test(value) ? ["1"] : /^(yes|no)$/i.test(value) ? ["yes"] : [true] }
    if (directionNames.test(last) && /^(in|inbound|incoming|received|mo)$/i.test(value))
      return { where, values: ["out", "outbound", "outgoing", "sent", "mt"] }
  }
  return undefined
}
