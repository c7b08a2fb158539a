import { parseDocument, stringify } from "yaml"
import type { CallProposal, Sort } from "../examples/propose.ts"
import { readAnswer } from "../../channels/graphErrors.ts"
import type { BodyForm, Content, Inline, Profile, VerifyScheme } from "../profile.ts"
import { readProfile } from "../readProfile.ts"
import type { Further, OwnMark } from "./propose.ts"
import { refusalsIn, usualRefusals } from "./refusals.ts"
import type { FieldRole } from "./sample.ts"
import { flat } from "./sample.ts"

/** How the reply reaches the gateway, said field by field. */
export interface Sending {
  address: string
  body: "json" | "form"
  send: { [name: string]: unknown }
  /** The secret that authorises. */
  bearer?: string
  basic?: [string, string]
  headers?: { [name: string]: string }
  /** Where the gateway's answer holds the message's id. */
  id?: string
}

/** What a person has agreed to about what comes in. */
export interface Incoming {
  body: BodyForm
  /** For each role where it stands, as proposed or as corrected. */
  places: { [role in FieldRole]?: string }
  /** Not there where messages are fetched. */
  proof?: VerifyScheme
  /** The list the places are relative to, where several messages come in one call. */
  each?: string | undefined
  own?: OwnMark | undefined
  /** Further fields that reach handlers, by their names. */
  fields?: { [name: string]: string } | undefined
  more?: Further
}

/** All that is known of a gateway: what samples told of what comes in, and examples of what is sent. */
export interface Known {
  name: string
  title?: string
  addresses: "numbers" | "names"
  incoming?: Incoming
  sending?: Sending
  calls?: CallProposal[]
  inline?: Omit<Inline, "longest" | "late">
  /** Where the account is linked again; without it, a general word. */
  remedy?: string
}

type Document = { [part: string]: unknown }

/** Writes a profile of what is known. What it says is checked like any other; faults are given back. */
export function writeProfile(known: Known): { source: string; profile: Profile } | { faults: string[] } {
  const document = documentOf(known)
  const from = known.incoming ? "samples and examples" : "examples"
  return checked(`# Written from ${from}.\n${stringify(document, { lineWidth: 0 })}`)
}

/** Lays what examples tell over a profile there is; what they say nothing of stays as it is written. */
export function writeInto(source: string, known: Known): { source: string; profile: Profile } | { faults: string[] } {
  const document = parseDocument(source)
  const { settings = {}, secrets = {}, ...parts } = documentOf(known)
  for (const [group, asked] of Object.entries({ settings, secrets }))
    for (const [name, one] of Object.entries(asked as Document))
      if (!document.hasIn([group, name])) document.setIn([group, name], document.createNode(one))
  for (const [name, part] of Object.entries(parts))
    if (!["profile", "title", "addresses"].includes(name)) document.set(name, document.createNode(part))
  return checked(document.toString({ lineWidth: 0 }))
}

function checked(source: string): { source: string; profile: Profile } | { faults: string[] } {
  const read = readProfile(source)
  if ("faults" in read) return { faults: read.faults.map((fault) => `${fault.field}: ${fault.says}. ${fault.remedy}`) }
  return { source, profile: read.profile }
}

function documentOf(known: Known): Document {
  const { name, title, addresses, incoming, sending, calls = [], inline } = known
  const settings: Document = {}
  const secrets: Document = {}
  if (incoming) {
    const { proof } = incoming
    if (proof) secrets[proof.secret] = { says: "what the gateway's calls are proven by" }
    if (proof?.scheme === "basic") settings.user = { says: "the name for basic authorisation", required: true }
    for (const setting of accountSettings(incoming))
      settings[setting] ??= { says: "the account's, as calls name it", required: true }
  }
  if (sending) Object.assign(settings, askedBy(sending, secrets))
  for (const call of calls) {
    for (const { name: asked, says, example } of call.settings)
      settings[asked] = { says: example === undefined ? says : `${says}, such as ${example}`, required: true }
    for (const { name: asked, says } of call.secrets) secrets[asked] ??= { says, required: true }
  }
  const state = incoming?.more?.state
  return {
    profile: name,
    title: title ?? (incoming ? "learned from a call" : "from examples of its documentation"),
    addresses,
    ...(Object.keys(settings).length > 0 ? { settings } : {}),
    ...(Object.keys(secrets).length > 0 ? { secrets } : {}),
    ...(incoming ? { inbound: inboundOf(incoming) } : {}),
    ...(inline ? { inline } : {}),
    ...(sending ? { outbound: outboundOf(sending) } : {}),
    ...partsOf(calls, idsCalled(incoming)),
    ...(state
      ? { state: { ...state, remedy: known.remedy ?? "Link the account again in the gateway's own pages." } }
      : {}),
    ...(incoming?.more?.status ? { tells: true } : {}),
  }
}

/** The settings that conditions name, such as the account's id. */
function accountSettings({ more }: Incoming): string[] {
  const written = JSON.stringify(more?.message?.only ?? {})
  return [...written.matchAll(/\{(\w+)\}/g)].map(([, name]) => name!).filter((name) => name !== "number")
}

function askedBy({ bearer, basic, headers }: Sending, secrets: Document): Document {
  const key = bearer ?? basic?.[1]
  if (key !== undefined) secrets[key] ??= { says: "the key for sending", required: true }
  for (const header of Object.values(headers ?? {}))
    for (const [, secret] of header.matchAll(/\{(\w+)\}/g))
      secrets[secret!] ??= { says: "the key for sending", required: true }
  return basic ? { [basic[0]]: { says: "the name that goes with the key", required: true } } : {}
}

function inboundOf({ body, places, proof, each, own, fields, more = {} }: Incoming): Document {
  const { from, text, id, time, name, place, media, mime } = places
  const inList = (where: string) =>
    each !== undefined && where.startsWith(`${each}/0/`) ? where.slice(each.length + 2) : where
  const piece = media === undefined ? undefined : /^(.*)\/0(\/[^/]+)$/.exec(media)
  return {
    body,
    ...(more.handshake ? { handshake: more.handshake } : {}),
    verify: proof ? [proof] : [],
    message: {
      ...(each ? { each } : {}),
      ...more.message,
      ...(id ? { id } : {}),
      from,
      text,
      ...(time ? { time } : {}),
      ...(name ? { name } : {}),
      ...(place ? { place } : {}),
      ...(own ? { own: { [own.where]: own.values } } : {}),
      ...(media && !more.message?.media
        ? {
            media: piece ? { each: inList(piece[1]!), address: piece[2]! } : { address: media, mime: mime ?? "" },
          }
        : {}),
      ...(fields && Object.keys(fields).length > 0 ? { fields } : {}),
    },
    ...(more.status ? { status: more.status } : {}),
  }
}

function outboundOf(sending: Sending): Document {
  return {
    address: sending.address,
    ...(sending.bearer ? { authorization: { bearer: sending.bearer } } : {}),
    ...(sending.basic ? { authorization: { basic: sending.basic } } : {}),
    ...(sending.headers ? { headers: sending.headers } : {}),
    body: sending.body,
    send: sending.send,
    ...(sending.id ? { answer: { id: sending.id } } : {}),
  }
}

/** Where gateways usually give a message's id, for examples that show no answer. */
const usualIds = [
  "/id",
  "/messageId",
  "/message_id",
  "/sid",
  "/data/id",
  "/message/id",
  "/messages/0/id",
  "/result/id",
  "/key/id",
]

/** What the gateway calls a message's id in what it brings: it hardly ever has two names for it. */
function idsCalled(incoming: Incoming | undefined): string[] {
  const places = [incoming?.more?.status?.id, incoming?.places.id].flat()
  return places.flatMap((where) => (where === undefined ? [] : [`/${where.split("/").at(-1)!}`]))
}

/** The parts of a profile that the calls of examples are. */
function partsOf(calls: CallProposal[], ids: string[]): Document {
  const of = (sort: Sort) => calls.filter((call) => call.sort === sort)
  const [send] = of("send")
  const [record] = of("address on record")
  const [unregister] = of("unregister")
  const [who] = of("who am I")
  const [ask] = of("fetch from the queue")
  const [remove] = of("remove from the queue")
  const [attachment] = of("attachment")
  const [history] = of("history")
  const [one] = of("one message")
  const set = of("register").map(({ calling }) => calling)
  return {
    ...(send ? { outbound: sentBy(send, ids) } : {}),
    ...(ask && remove ? { queue: queueOf(ask, remove) } : {}),
    ...(set.length > 0
      ? {
          register: {
            set,
            ...(record
              ? { read: { ...record.calling, answer: { address: placesIn(record, addressNames, ["/url"]) } } }
              : {}),
            ...(unregister ? { remove: unregister.calling } : {}),
          },
        }
      : {}),
    ...(attachment ? { fetch: attachment.calling } : {}),
    ...(history ? { history: { ...history.calling, ...listIn(history) } } : {}),
    ...(one ? { find: { ...one.calling, answer: { id: placesIn(one, idNames, usualIds) } } } : {}),
    ...(who
      ? {
          check: {
            ...who.calling,
            ...(who.answer === undefined ? {} : { answer: whoIn(who) }),
          },
        }
      : {}),
  }
}

function sentBy({ calling, media, extra, digits, ...send }: CallProposal, ids: string[]): Document {
  const xml = (send.answer ?? "").trim().startsWith("<")
  const read = send.answer === undefined ? [] : flat(readAnswer(send.answer), "")
  const refused = send.answer === undefined ? {} : refusalsIn(send.answer)
  const id = read.find(({ where }) => idNames.test(where.split("/").at(-1)!))?.where
  return {
    ...calling,
    ...(digits ? { numberForm: "digits" } : {}),
    ...(media ? { media } : {}),
    ...(extra ? { extra } : {}),
    answer: {
      ...(xml ? { body: "xml" } : {}),
      id: id ?? [...new Set([...ids, ...usualIds])],
      ...(xml ? {} : { refused: Object.keys(refused).length > 0 ? refused : usualRefusals }),
    },
  }
}

const idNames = /^(id|sid|message_?id|msg_?id|uid|uuid|reference|resourceURL)$/i
const addressNames = /^(url|address|endpoint|webhook(_?url)?|callback(_?url)?|target)$/i

function placesIn({ answer }: CallProposal, names: RegExp, usual: string[]): string | string[] {
  const found = flat(answer === undefined ? undefined : readAnswer(answer), "").find(({ where }) =>
    names.test(where.split("/").at(-1)!),
  )
  return found?.where ?? usual
}

function whoIn({ answer }: CallProposal): Document {
  const fields = flat(readAnswer(answer!), "")
  const named = (pattern: RegExp) => fields.find(({ where }) => pattern.test(where.split("/").at(-1)!))?.where
  const id = named(/^(id|sid|account_?id|number|phone|uid|instance(_?name|_?id)?)$/i)
  const name = named(/^(name|display_?name|friendly_?name|title|profile_?name)$/i)
  const state = named(/^(state|status|connection(_?status)?)$/i)
  return { ...(id ? { id } : {}), ...(name ? { name } : {}), ...(state ? { state } : {}) }
}

/** The list an answer holds, and what in its items is the message itself. */
function listIn({ answer }: CallProposal): { each?: string; content?: string } {
  const tree = answer === undefined ? undefined : readAnswer(answer)
  const found = tree && Object.entries(tree).find(([, value]) => Array.isArray(value))
  return found ? { each: `/${found[0]}` } : {}
}

/** A queue's calls; by which handle what came is removed is told by the answer, where one was shown. */
function queueOf(ask: CallProposal, remove: CallProposal): Document {
  const tree = ask.answer === undefined ? undefined : readAnswer(ask.answer)
  const { each } = listIn(ask)
  const list = each === undefined ? undefined : (tree?.[each.slice(1)] as unknown[])
  const item = each === undefined ? tree : (list?.[0] as Content | undefined)
  const entries = Object.entries(item ?? {})
  const handle = entries.find(
    ([name, value]) => /receipt|handle|ack|^id$|_id$/i.test(name) && typeof value !== "object",
  )?.[0]
  const content = entries.find(([, value]) => typeof value === "object" && value !== null && !Array.isArray(value))?.[0]
  return {
    ask: ask.calling,
    ...(each ? { each } : {}),
    handle: `/${handle ?? "receiptId"}`,
    ...(content ? { content: `/${content}` } : {}),
    remove: remove.calling,
  }
}
