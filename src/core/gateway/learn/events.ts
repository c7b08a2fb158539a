import type { AccountState, MessagePlaces, StatusPlaces } from "../profile.ts"
import type { ReadSample, SampleField } from "./sample.ts"

/** What gateways call how far a message got. */
const statusWords: StatusPlaces["words"] = {
  sent: "sent",
  submitted: "sent",
  accepted: "sent",
  enroute: "sent",
  server_ack: "sent",
  delivered: "delivered",
  delivrd: "delivered",
  delivery_ack: "delivered",
  received_by_recipient: "delivered",
  read: "read",
  seen: "read",
  played: "read",
  failed: "failed",
  undelivered: "failed",
  undeliverable: "failed",
  undeliv: "failed",
  rejected: "failed",
  rejectd: "failed",
  expired: "failed",
  error: "failed",
}

/** What they call an account that works, and one that does not. */
const goodStates =
  /^(open|opened|connected|online|linked|authori[sz]ed|authenticated|ready|active|up|ok|working|paired)$/i
const badStates =
  /^(clos(e|ed)|disconnected|offline|un-?linked|not_?authori[sz]ed|un_?authori[sz]ed|logged_?out|blocked|banned|expired|inactive|down|conflict|unpaired|qr|need_?qr|scan_?qr.*|not_?linked|revoked)$/i

const stateNames = /state|status|connection|account/i

/** What a sample tells of. */
export type Told = "message" | "status" | "state"

/** What a sample tells of, by its words: a report of delivery, the account's state, or else something that was said. */
export function toldBy({ fields }: ReadSample): Told {
  const words = fields.filter(({ where }) => stateNames.test(lastOf(where)) || /^(ack|event)$/i.test(lastOf(where)))
  if (stateField(fields)) return "state"
  const saysText = fields.some(({ value }) => /\S\s\S/.test(value) && !/^\d{4}-\d\d/.test(value))
  if (!saysText && words.some(({ value }) => Object.hasOwn(statusWords, value.toLowerCase()))) return "status"
  return "message"
}

/** Fields that say by yes or no whether an account works. */
const stateSwitches = /^(is_?)?(connected|online|linked|authori[sz]ed|authenticated|ready|logged_?in|paired)$/i

/**
 * Where the account's state stands: in a word, in a yes or no, or in the name of what happened. A word may be said of a
 * message, too, so beside a person's words it counts as none.
 */
function stateField(fields: SampleField[]): SampleField | undefined {
  const isState = (value: string) => goodStates.test(value) || badStates.test(value)
  const has = (pattern: RegExp) => fields.some(({ where }) => pattern.test(lastOf(where)))
  if (has(/^(from|sender|author|chat_?id)$/i)) return undefined
  const word = has(/^(text|body|message|content)$/i)
    ? undefined
    : fields.find(({ where, value }) => stateNames.test(lastOf(where)) && isState(value))
  // An account that does not work says why in words, too.
  if (!word && has(/^(text|body|content)$/i) && !has(/reason|why|error/i)) return undefined
  return (
    word ??
    fields.find(({ where, value }) => stateSwitches.test(lastOf(where)) && /^(true|false)$/i.test(value)) ??
    fields.find(({ where, value }) => eventNames.test(lastOf(where)) && isState(stateInName(value)))
  )
}

const eventNames = /type|event|kind|topic|action|notification/i

/** The word in an event's name that may be a state: `disconnected` in `session.disconnected` and `DisconnectedEvent`. */
function stateInName(name: string): string {
  const words = name
    .split(/[^A-Za-z]+|(?<=[a-z])(?=[A-Z])/)
    .filter((word) => !/^(callback|event|update|webhook|on)$/i.test(word))
  return words.at(-1) ?? ""
}

function lastOf(where: string): string {
  return where.split("/").at(-1) ?? where
}

/** The report of delivery that a sample is: where status and message stand, and what the words mean. */
export function statusIn(samples: ReadSample[], only: MessagePlaces["only"]): StatusPlaces | undefined {
  const [first] = samples
  const status = first?.fields.find(
    ({ where, value }) =>
      stateNames.test(lastOf(where)) || (lastOf(where) === "ack" && Object.hasOwn(statusWords, value.toLowerCase())),
  )
  if (!first || !status) return undefined
  const ids = first.fields.filter(({ where }) => where !== status.where && !/account|instance|session/i.test(where))
  const mark = ids.find(({ where, value }) => /ref|client|correlat|custom/i.test(lastOf(where)) && value.length > 2)
  const named = ids.filter(
    ({ where, value }) =>
      /(^|_|[a-z])(id|sid|key|receipt)$|^id/i.test(lastOf(where)) &&
      !/chat|conversation|from|to$|sender|person|contact/i.test(lastOf(where)) &&
      where !== mark?.where &&
      value.length > 1,
  )
  const id = named.find(({ where }) => /message|msg|sms/i.test(where)) ?? named[0]
  if (!id && !mark) return undefined
  const why = first.fields.find(({ where }) => /error|reason|why|code|description/i.test(lastOf(where)))
  const told = samples
    .flatMap(({ fields }) => fields.filter(({ where }) => where === status.where))
    .map((one) => one.value)
  const words = Object.fromEntries(
    [...new Set([...told, ...spelledLike(status.value)])].flatMap((word) => {
      const meaning = statusWords[word.toLowerCase()]
      return meaning ? [[word, meaning]] : []
    }),
  )
  return {
    ...(only ? { only } : { when: [status.where] }),
    ...(id ? { id: id.where } : {}),
    ...(mark ? { mark: mark.where } : {}),
    status: status.where,
    ...(why ? { why: why.where } : {}),
    words,
  }
}

/** The usual words, in capitals where the sample writes so. */
function spelledLike(sample: string): string[] {
  const all = Object.keys(statusWords)
  if (/^[A-Z_]+$/.test(sample)) return all.map((word) => word.toUpperCase())
  return /^[A-Z]/.test(sample) ? all.map((word) => word[0]!.toUpperCase() + word.slice(1)) : all
}

/** The account's state that a sample tells: where it stands, and which words are good and bad. */
export function stateIn(samples: ReadSample[], only: MessagePlaces["only"]): Omit<AccountState, "remedy"> | undefined {
  const [first] = samples
  const state = first && stateField(first.fields)
  if (!state) return undefined
  const told = samples
    .flatMap(({ fields }) => fields.filter(({ where }) => where === state.where))
    .map((one) => one.value)
  const { bad, good } = stateWords(state.value, told)
  // By the name of what happened, all of those names are meant; a yes or no stands nowhere else.
  const isNamed = only !== undefined && Object.hasOwn(only, state.where)
  const isSwitch = stateSwitches.test(lastOf(state.where))
  const calls = isNamed
    ? { only: { [state.where]: [...bad, ...good] } }
    : only && !isSwitch
      ? { only }
      : { when: [state.where] }
  const why = first!.fields.find(({ where }) => /reason|why|error/i.test(lastOf(where)))
  return {
    event: { ...calls, state: state.where, ...(why ? { why: why.where } : {}) },
    bad: Object.fromEntries([...bad].map((word) => [word, "the account is not linked any more"])),
    good: [...good],
  }
}

/** Which words are bad and good: those that samples have, and the usual others, in the form in which they have them. */
function stateWords(sample: string, told: string[]): { bad: Set<string>; good: Set<string> } {
  if (/^(true|false)$/i.test(sample)) return { bad: new Set(["false"]), good: new Set(["true"]) }
  const inName = stateInName(sample)
  if (inName === sample || goodStates.test(sample) || badStates.test(sample))
    return {
      bad: new Set([...told.filter((word) => badStates.test(word)), ...opposites(sample, bads)]),
      good: new Set([...told.filter((word) => goodStates.test(word)), ...opposites(sample, goods)]),
    }
  const within = (word: string) =>
    sample.replace(inName, /^[A-Z]/.test(inName) ? word[0]!.toUpperCase() + word.slice(1) : word)
  return {
    bad: new Set([...told.filter((name) => badStates.test(stateInName(name))), ...opposites(inName, bads).map(within)]),
    good: new Set([
      ...told.filter((name) => goodStates.test(stateInName(name))),
      ...opposites(inName, goods).map(within),
    ]),
  }
}

const goods = ["open", "connected", "online", "linked", "authorized", "authenticated", "ready", "active"]
const bads = [
  "close",
  "closed",
  "disconnected",
  "offline",
  "unlinked",
  "notAuthorized",
  "unauthorized",
  "logged_out",
  "blocked",
  "banned",
  "expired",
]

/** The usual words for the other state, spelled as the sample's. */
function opposites(sample: string, words: string[]): string[] {
  return /^[A-Z_]+$/.test(sample) ? words.map((word) => word.toUpperCase()) : words
}

const contents =
  /^(text|chat|image|picture|photo|video|audio|voice|ptt|document|file|location|contact|vcard|sticker|conversation)(_?message)?$/i

/**
 * By which field calls of this sort are told from the others: one that all samples have, in which these have values of
 * their own.
 */
export function onlyOf(these: ReadSample[], others: ReadSample[]): MessagePlaces["only"] {
  const [first] = these
  if (!first || others.length === 0) return undefined
  const found = first.fields
    .filter(({ where }) => /type|event|kind|topic|action|object|category|notification|method/i.test(lastOf(where)))
    .find(({ where }) => {
      const own = valuesAt(these, where)
      // By the sort of what was said, such as a text, messages of other sorts would be left out.
      if (own.every((value) => contents.test(value ?? ""))) return false
      const their = valuesAt(others, where)
      return (
        own.every((value) => value !== undefined) &&
        their.some((value) => value !== undefined) &&
        !their.some((value) => (own as (string | undefined)[]).includes(value))
      )
    })
  return found && { [found.where]: [...new Set(valuesAt(these, found.where) as string[])] }
}

function valuesAt(samples: ReadSample[], where: string): (string | undefined)[] {
  return samples.map(({ fields }) => fields.find((one) => one.where === where)?.value)
}
