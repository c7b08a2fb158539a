import { isSameNumber } from "../fields.ts"
import { e164 } from "../numbers.ts"
import type { Certainty, FieldRole, SampleField } from "./sample.ts"
import { roles } from "./sample.ts"

/** How well a name, and a value, fit a role. */
const names: { [role in FieldRole]: RegExp[] } = {
  from: [
    /^(from|sender|msisdn|source|originator|fromusername|from_?number|sender_?id|mobile|phone)$/i,
    /from|sender|author|origin|phone|msisdn|caller|number|jid|wa_?id|^(who|user|person|contact|customer|peer|party)$/i,
  ],
  text: [/^(text|body|message|content|msg|sms|said|words|message_?text|msg_?body)$/i, /text|body|message|content/i],
  id: [
    /^(id|uid|mid|message_?id|msg_?id|message_?sid|id_?(message|msg)|uuid|guid|sms_?id|ref|reference|message_?key)$/i,
    /(message|msg|event).*id|_id$|Id$|sid$|^(key|ticket)$/,
  ],
  time: [
    /^(time|timestamp|ts|moment|date|sent_?at|received_?at|create_?time|created|datetime|at|when)$/i,
    /time|date|stamp/i,
  ],
  name: [
    /^(name|push_?name|profile_?name|sender_?name|display_?name|full_?name|nick_?name|username|contact_?name)$/i,
    /name$|^(label|nick|alias|title)$/i,
  ],
  place: [
    /^(chat_?id|conversation|conversation_?id|group_?id|room|room_?id|thread_?id|channel_?id)$/i,
    /chat|conversation|group|room/i,
  ],
  media: [/^(media_?url\d*|attachment_?url|file_?url|image_?url)$/i, /(media|attach|file|image).*(url|link)/i],
  mime: [/^(media_?content_?type\d*|mime_?type|mime)$/i, /mime|content_?type/i],
}

const fits: { [role in FieldRole]: (value: string) => number } = {
  from: (value) =>
    e164(value.replace(/@[\w.]+$/, ""), "GB") ? 3 : /\s|^(true|false)$/.test(value) || value.length > 80 ? -9 : 0,
  text: (value) =>
    /\s/.test(value.trim()) && !isTime(value)
      ? 3 + Math.min(value.length, 100) / 200
      : /^\+?\d+$/.test(value)
        ? -3
        : /^https?:/.test(value)
          ? -9
          : 0,
  // A long mix of letters and digits is an id, whatever it is called.
  id: (value) =>
    /[\s:]/.test(value) || (value.length < 3 && !/^\d+$/.test(value))
      ? -9
      : isUnique(value)
        ? 4.5
        : /\d/.test(value)
          ? 2
          : 0,
  // A date with a time of day is nothing else, whatever it is called; a number may be a telephone's.
  time: (value) => (!isTime(value) ? -9 : value.includes(":") || /^1\d{12}$/.test(value) ? 4.5 : 3),
  name: (value) => (value.length > 60 || /^[\d+]/.test(value) ? -9 : 0),
  place: (value) => (/\s/.test(value) ? -9 : 0),
  media: (value) => (/^https?:\/\//.test(value) ? 3 : -9),
  mime: (value) => (/^[\w.+-]+\/[\w.+-]+$/.test(value) ? 3 : -9),
}

/** Names that a role never has: the other side, and what proves a call or says whose account it is. */
const spoils: { [role in FieldRole]?: RegExp } = {
  from: /^to|recipient|receiver|destination|(^| )(own|our|my|business|connected|account|instance|device|bot|line|inbox)_?[A-Za-z]*(phone|number|id|jid|wid)\b/i,
  id: /\bsig|signature|hash|token|secret|account|instance|device|session/i,
}

function isTime(value: string): boolean {
  if (/^\d{10}(\.\d+)?$|^\d{13}$/.test(value)) return true
  return /^\d{4}-\d\d-\d\d/.test(value) && !Number.isNaN(Date.parse(value))
}

function isUnique(value: string): boolean {
  return /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i.test(value) || /^(?=.*\d)(?=.*[a-z])[\w.-]{16,64}$/i.test(value)
}

/** How much better the best must be than the next, or a person should look. */
const clear = 1.5

/**
 * Which field is most likely what, and where that is doubtful.
 *
 * @param others further messages of the same gateway: an id differs in each, a text hardly ever stays
 */
export function rolesIn(fields: SampleField[], ownNumber: string | undefined, others: SampleField[][] = []): Roles {
  const found: Roles["found"] = {}
  const how: Roles["how"] = {}
  const doubts: string[] = []
  const taken = new Set<string>()
  const own = fields.filter(({ value }) => isSameNumber(value, ownNumber)).map(({ where }) => where)
  for (const role of roles) {
    const [best, ...more] = fields
      .filter(({ where }) => !taken.has(where) && !(role === "from" && own.includes(where)))
      .map(({ where, value }) => ({
        where,
        value,
        score: scoreOf(role, where, value, fields) + changing(role, where, value, others),
      }))
      .sort((a, b) => b.score - a.score)
    // Words that stand in no other role are the text, whatever the field is called.
    if (!best || best.score < (role === "text" ? 2 : 4)) continue
    found[role] = best.where
    taken.add(best.where)
    const [next] = more
    const otherwise = more.filter(({ score }) => score > Math.max(1, best.score - 4)).slice(0, 3)
    how[role] = {
      certainty: certaintyOf(best.score, best.score - (otherwise[0]?.score ?? 0)),
      otherwise: otherwise.map(({ where }) => where),
    }
    // The same value twice is no question.
    const ours = next && role === "from" && stepsOf(next.where).some((step) => ownSide.test(step))
    const close = next && !ours && next.score > best.score - clear && next.value !== best.value
    if (close && (role === "from" || role === "text"))
      doubts.push(`the ${role === "from" ? "sender" : "text"} is ${best.where}, or ${next.where}`)
  }
  // What has a role of its own is not likely to have this one.
  for (const one of Object.values(how)) one.otherwise = one.otherwise.filter((where) => !taken.has(where))
  return { found, how, doubts }
}

/** Which field has which role, how sure that is, and where a person should look. */
interface Roles {
  found: { [role in FieldRole]?: string }
  how: { [role in FieldRole]?: Required<Pick<SampleField, "certainty" | "otherwise">> }
  doubts: string[]
}

/** How sure a role is: by how well the field fits, and how much better than any other. */
function certaintyOf(score: number, lead: number): Certainty {
  if (lead < clear) return "a guess"
  return score >= 6 && lead >= 2 * clear ? "sure" : "likely"
}

/** What further messages say for or against a field: an id that stays is none, and neither is a text or a time. */
function changing(role: FieldRole, where: string, value: string, others: SampleField[][]): number {
  if (others.length === 0 || !["id", "text", "time"].includes(role)) return 0
  const values = others.map((fields) => fields.find((one) => one.where === where)?.value)
  if (values.includes(undefined)) return -1
  const stays = values.filter((one) => one === value).length
  if (stays === 0) return 1.5
  return role === "id" ? -6 : stays === values.length ? -3 : 0
}

/** Things that hold a number and a name are people. */
function isPerson(where: string, fields: SampleField[]): boolean {
  const parent = where.slice(0, where.lastIndexOf("/"))
  return (
    parent !== "" &&
    fields.some(
      (other) =>
        other.where !== where &&
        other.where.startsWith(`${parent}/`) &&
        names.name.some((one) => one.test(other.where.split("/").at(-1)!)),
    )
  )
}

const namesAnother =
  /(^| )(chat|conversation|room|thread|group|channel|from|sender|author|user|contact|person|customer|peer|recipient|receiver|page|app|business|number|phone|wa_?id|jid)/i

/** Steps of a path in which the other side stands, or the account itself. */
const ownSide = /^(to|recipient|receiver|destination|account|instance|me|device|session|bot|owner|self)$/i

function stepsOf(where: string): string[] {
  return where.split("/").filter((step) => step !== "" && step !== "0")
}

function scoreOf(role: FieldRole, where: string, value: string, fields: SampleField[]): number {
  const steps = stepsOf(where)
  const last = steps.at(-1) ?? where
  const [exact, near] = names[role]
  // A time in seconds may look like a number: where it is called a time, it is one.
  if (role === "from" && isTime(value) && names.time.some((one) => one.test(last))) return 0
  // A field named "id" inside "from" is the sender.
  const parent = steps.at(-2) ?? ""
  const inside =
    /^(id|number|phone|address|value|body)$|(_|[a-z])(id|number|phone|address)$/i.test(last) &&
    names[role].some((one) => one.test(parent))
      ? 4.5
      : 0
  const named = exact!.test(last) ? 5 : near!.test(last) ? 3 : 0
  if (role === "text" && named === 0 && names.name.some((one) => one.test(last))) return 0
  // What names a person or a place stays from message to message: as its id, all but the first would be repetitions.
  const isOfAnother = role === "id" && namesAnother.test(`${parent} ${last}`) && !/message|msg|sms/i.test(last)
  const spoiled = isOfAnother || spoils[role]?.test(`${parent} ${last}`) ? -9 : 0
  const ours = role === "from" || role === "name" ? (steps.some((step) => ownSide.test(step)) ? -6 : 0) : 0
  const person = role === "from" && isPerson(where, fields) ? 1.5 : 0
  // What stands beside the sender's number is the sender's name.
  const beside = role === "name" && named > 0 && names.from.some((one) => one.test(parent)) ? 2 : 0
  return Math.max(named, inside) + beside + person + ours + fits[role](value) + spoiled - steps.length * 0.1
}
