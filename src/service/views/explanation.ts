import type { Explanation, ExplanationAsk } from "../../client/types.ts"
import type { Message, Place, Sender } from "../../core/message/message.ts"
import { instantIn } from "../../core/phrase/spans.ts"
import type { Bot } from "../../core/routing/bot.ts"
import { speakingFact } from "../../core/routing/addressed.ts"
import type { Facts, Situation } from "../../core/routing/situation.ts"
import type { RouteExplanation, RouteTable } from "../../core/routing/table.ts"
import { unroutedName } from "../../core/routing/unrouted.ts"
import type { Engine } from "../../engine/engine.ts"
import { handlerOf } from "../../engine/handlers/registry.ts"
import { tableOf } from "../../engine/handlers/tables.ts"
import { notFound } from "../../engine/trouble.ts"
import type { ConversationRow } from "../../store/conversations.ts"
import { conversationAt, conversationById, stateOf } from "../../store/conversations.ts"
import { factsOf } from "../../store/facts.ts"
import type { MessageRow } from "../../store/messages.ts"
import { messagesById, turnsOf } from "../../store/messages.ts"
import { newestRelease, releaseById, releaseOfChannel } from "../../store/releases.ts"
import type { KnownContact } from "../../store/tags.ts"
import { contactAt } from "../../store/tags.ts"

/** What would be decided, and for each route why. What is not given is open: no channel and no person is made up. */
export async function explanationOf(engine: Engine, asked: ExplanationAsk): Promise<Explanation> {
  const kept = asked.message === undefined ? undefined : await keptMessage(engine, asked.message)
  const channel = asked.channel ?? kept?.channel
  if (channel !== undefined) engine.care.known(channel)
  const id = channel ? await releaseOfChannel(engine.reading, channel) : await newestRelease(engine.reading)
  const release = id ? await releaseById(engine.reading, id) : undefined
  if (!release) throw notFound("release", "live", 'Start the service with "wobbet serve --bot <folder>".')
  const table = tableOf(release)
  const situation = await situationOf(engine, table.bot, asked, kept, channel)
  const routes = table.explain(situation)
  return { release: release.id, ...(await decided(table, situation, routes)), routes }
}

async function keptMessage(engine: Engine, id: string): Promise<MessageRow> {
  const [found] = await messagesById(engine.reading, [id])
  if (!found || found.direction !== "in")
    throw notFound("received message", id, 'List them with "wobbet message find".')
  return found
}

async function situationOf(
  engine: Engine,
  bot: Bot,
  asked: ExplanationAsk,
  kept: MessageRow | undefined,
  channel: string | undefined,
): Promise<Situation> {
  const conversation = await conversationMeant(engine, asked.place, channel, kept)
  const person = asked.person === undefined ? undefined : await personMeant(engine, asked.person, channel)
  const body = kept?.body as unknown as Message | undefined
  const turn = kept ? (await turnsOf(engine.reading, [kept.id])).at(-1) : undefined
  const place = placeOf(asked.place, conversation, body)
  const from = person ? senderOf(person) : body?.from
  const said = asked.text === undefined && asked.choice === undefined && body ? body : saidAs(asked)
  const message: Message = { ...said, place, ...(from ? { from } : {}) }
  const known = channel === undefined ? undefined : engine.channels.get(channel)
  // What the decision of that time saw counts as long as nobody asks about another place or person.
  const facts =
    turn?.facts && asked.place === undefined && person === undefined
      ? turn.facts
      : await factsNow(engine, conversation, kept, person)
  const state = asked.state ?? turn?.stateBefore ?? (conversation && (await stateOf(engine.reading, conversation.id)))
  const saidAt = asked.at === undefined ? undefined : instantIn(asked.at, bot.zone)
  if (saidAt !== undefined) message.sentAt = saidAt
  return {
    message,
    ...(known ? { channel: { key: known.row.key, kind: known.row.kind } } : {}),
    state: state ?? {},
    now: saidAt ?? (kept ? (kept.sentAt ?? kept.receivedAt) : new Date()).toISOString(),
    facts: { ...speakingFact(message), ...facts },
    supposed: true,
  }
}

const placeKinds = ["direct", "group", "broadcast"] as const
type PlaceKind = (typeof placeKinds)[number]

const isKind = (place: string | undefined): place is PlaceKind => placeKinds.includes(place as PlaceKind)

async function conversationMeant(
  engine: Engine,
  place: string | undefined,
  channel: string | undefined,
  kept: MessageRow | undefined,
): Promise<ConversationRow | undefined> {
  if (place === undefined) return kept && (await conversationById(engine.reading, kept.conversation))
  if (isKind(place)) return undefined
  const found =
    (await conversationById(engine.reading, place)) ?? (await conversationAt(engine.reading, place, channel))[0]
  if (!found)
    throw notFound("place", place, 'Write direct, group or broadcast, or a conversation of "wobbet conversation list".')
  return found
}

async function personMeant(engine: Engine, person: string, channel: string | undefined): Promise<KnownContact> {
  const found = await contactAt(engine.reading, person, channel)
  if (!found) throw notFound("person", person, 'List them with "wobbet conversation list --people".')
  return found
}

function placeOf(
  asked: string | undefined,
  conversation: ConversationRow | undefined,
  body: Message | undefined,
): Place {
  if (isKind(asked)) return { address: "", kind: asked }
  if (!conversation) return body?.place ?? { address: "", kind: "direct" }
  const { address, kind, title, topic } = conversation
  return { address, kind: kind as PlaceKind, ...(title ? { title } : {}), ...(topic ? { topic } : {}) }
}

function senderOf({ address, name, handle, language }: KnownContact): Sender {
  return {
    address,
    bot: false,
    ...(name ? { name } : {}),
    ...(handle ? { handle } : {}),
    ...(language ? { language } : {}),
  }
}

/** What the record knows now of the place and the person; what nobody asked about stays open. */
async function factsNow(
  engine: Engine,
  conversation: ConversationRow | undefined,
  kept: MessageRow | undefined,
  person: KnownContact | undefined,
): Promise<Facts> {
  const contact = person ? { contact: { tags: person.tags, fields: person.fields } } : {}
  if (!conversation) return contact
  const found = await factsOf(engine.reading, {
    conversation: conversation.id,
    channel: conversation.channel,
    position: kept?.position ?? Number.MAX_SAFE_INTEGER,
    contact: conversation.contact,
    answered: [],
    address: conversation.address,
  })
  const until = kept?.receivedAt.getTime() ?? Date.now()
  return {
    placeTags: found.placeTags,
    taken: found.taken ?? {},
    silent: found.before && until - found.before.getTime(),
    ...(found.contact ? { contact: found.contact } : {}),
    ...contact,
  }
}

function saidAs({ text = "", choice }: ExplanationAsk): Message {
  const place: Place = { address: "", kind: "direct" }
  if (choice !== undefined) return { event: "choice", place, choice: { id: choice } }
  const command = /^\/([A-Za-z0-9_]{1,32})(?:\s+(\S[\s\S]*)?)?$/.exec(text)
  if (!command) return { event: "text", place, text }
  const args = command[2] ? { args: command[2] } : {}
  return { event: "command", place, text, command: { name: command[1]!.toLowerCase(), ...args } }
}

/** What is taken, what a text handler would say, and what would take it before if more were known. */
async function decided(
  table: RouteTable,
  situation: Situation,
  routes: RouteExplanation[],
): Promise<Omit<Explanation, "release" | "routes">> {
  const decision = table.decide(situation)
  const end = routes.findIndex((one) => one.met)
  const unless = routes
    .slice(0, end < 0 ? undefined : end)
    .filter((one) => one.depends)
    .map(({ route, why }) => ({ route, why }))
  if (decision.took === "passed over") return { took: decision.took, why: decision.why, unless }
  const route = decision.took === "route" ? decision.route : undefined
  const handler = decision.took === "route" ? decision.route.handler : decision.handler
  const slots = decision.took === "route" ? decision.slots : {}
  return {
    took: decision.took,
    ...(route ? { route: route.name } : {}),
    ...(Object.keys(slots).length > 0 ? { slots } : {}),
    ...(handler === undefined ? {} : { handler: handlerOf(handler).name }),
    ...(await saidBy(table, situation, handler, slots, route?.name ?? unroutedName)),
    unless,
  }
}

/** The words of a text handler; what another would answer is not known without running it. */
async function saidBy(
  table: RouteTable,
  situation: Situation,
  handler: Parameters<typeof handlerOf>[0] | undefined,
  slots: { [name: string]: string | number },
  counted: string,
): Promise<{ says?: string }> {
  if (handler === undefined) return {}
  const { kind, written, name } = handlerOf(handler)
  if (name !== "text") return {}
  const { channel = { key: "", kind: "" }, state, now, facts } = situation
  // Where nobody is named as its author, dots stand for the person.
  const from = situation.message.from ?? { address: "…", name: "…", handle: "…", bot: false }
  const message = { ...situation.message, from }
  const turn = {
    message,
    messages: [message],
    slots,
    state,
    contact: {},
    conversation: { id: "", place: message.place },
    channel,
    again: false,
    now,
  }
  const given = { deadline: 0, times: facts?.taken?.[counted] ?? 0, fields: facts?.contact?.fields ?? {}, secrets: {} }
  const { outcome } = await kind.run(written, turn, { id: "", table, hosts: undefined }, given)
  const [part] = (outcome.replies ?? []) as { text?: string }[]
  return part?.text === undefined ? {} : { says: part.text }
}
