import { accountFault, readAnswer } from "../channels/graphErrors.ts"
import type { OutgoingCall } from "../channels/call.ts"
import type { Account, Channel, Fetching, OnRecord } from "../channels/kind.ts"
import type { Source } from "./fields.ts"
import { at, fillTemplate, textAt, wordAt } from "./fields.ts"
import { judgeAnswer } from "./judge.ts"
import { addressDifference } from "../channels/addressDifference.ts"
import { callOf, headersOf, wordInAddress } from "./calls.ts"
import { meaningOfState } from "./accountState.ts"
import { decoded } from "../signature/addresses.ts"
import type { Calling, Register } from "./profile.ts"
import { readJson } from "../message/json.ts"
import { hasProfile, profileOf } from "./shipped.ts"

export const account: Account = {
  check(channel) {
    const check = hasProfile(channel) ? profileOf(channel).check : undefined
    if (!check) return undefined
    return callOf(check, channel, { name: "account" })
  },
  readCheck(answer, channel) {
    if (!hasProfile(channel)) {
      return {
        fault: "this channel has no gateway profile yet",
        remedy: `Run "wobbet channel learn ${channel.key}" and let the gateway call: it proposes one.`,
        lockedOut: false,
      }
    }
    const { check } = profileOf(channel)
    const number = String(channel.settings.number ?? "")
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    if (check && !body) return accountFault(judgeAnswer(answer, channel))
    const source = { json: body }
    const name = textAt(source, check?.answer.name, channel.settings)
    const state = wordAt(source, check?.answer.state, channel.settings)
    const meaning = state === undefined ? undefined : meaningOfState(state, undefined, channel)
    const bad = state === undefined ? undefined : (profileOf(channel).state?.bad[state] ?? check?.bad?.[state])
    return {
      ...(meaning?.alarm ? { alarm: meaning.alarm } : meaning ? { isWell: true as const } : {}),
      identity: {
        id: (textAt(source, check?.answer.id, channel.settings) ?? number) || channel.key,
        ...(number ? { handle: number } : {}),
        ...(name ? { name } : {}),
        ...(bad ? { restricted: [`The gateway says the account is "${state}": ${bad}.`] } : {}),
        remarks: check ? [] : ["This gateway has no call that says whether a key works; the first message will tell."],
      },
    }
  },
  connect(channel) {
    const register = registerOf(channel)
    if (!register) return undefined
    // One word may stand for a list: it is given as the gateway wants it, joined or not, by how the profile writes it.
    const events = (register.events ?? []).join(",")
    return register.set.map((calling) =>
      callOf(withEvents(calling, register.events ?? []), channel, { name: "register", values: { events } }),
    )
  },
  disconnect(channel) {
    const remove = registerOf(channel)?.remove
    return remove && callOf(remove, channel, { name: "unregister" })
  },
  lookUp(channel) {
    const read = registerOf(channel)?.read
    return read && callOf(read, channel, { name: "address on record" })
  },
  readLookUp(answer, channel) {
    const read = registerOf(channel)?.read
    const body = "body" in answer && answer.status < 300 ? jsonIn(answer.body) : undefined
    if (!read || body === undefined) return accountFault(judgeAnswer(answer, channel))
    return { onRecord: recordIn({ json: body }, read.answer, channel) }
  },
  compare(channel, onRecord, address) {
    const again = `Run "wobbet channel connect ${channel.key}".`
    const ours = hideWord(wholeAddressOf(channel, address)?.address ?? address, channel)
    if (!onRecord.address) return [`The gateway has no address on record, so it brings nothing. ${again}`]
    const differences: string[] = []
    if (onRecord.address !== ours)
      differences.push(`${addressDifference("The gateway", onRecord.address, ours)} ${again}`)
    const missing = (registerOf(channel)?.events ?? []).filter((one) => onRecord.events?.includes(one) === false)
    if (missing.length > 0) differences.push(`The gateway was not asked to bring ${missing.join(", ")}. ${again}`)
    return differences
  },
  byHand: (channel, address) => (registerOf(channel) ? [] : handValues(channel, address)),
  wholeAddress: wholeAddressOf,
}

function registerOf(channel: Channel): Register | undefined {
  return hasProfile(channel) ? profileOf(channel).register : undefined
}

/** Where `{events}` stands alone for a value, the list itself is meant. */
function withEvents(calling: Calling, events: string[]): Calling {
  const inside = (value: unknown): unknown => {
    if (value === "{events}") return events
    if (Array.isArray(value)) return value.map(inside)
    if (typeof value !== "object" || value === null) return value
    return Object.fromEntries(Object.entries(value).map(([name, one]) => [name, inside(one)]))
  }
  const written = calling.body === "form" || calling.body === "query"
  return calling.send && !written ? { ...calling, send: inside(calling.send) as Calling["send"] & object } : calling
}

/** What an answer holds, which may be a list. */
function jsonIn(body: string): unknown {
  try {
    return readJson(Buffer.from(body))
  } catch {
    return undefined
  }
}

/** Values of an answer that are compared with our address. */
const mostValues = 2000

/** Whether our address stands anywhere in an answer: a gateway may have several on record. */
function isAmong(json: unknown, wanted: string): boolean {
  let left = mostValues
  const inside = (value: unknown, depth: number): boolean => {
    if (left-- <= 0 || depth > 8) return false
    if (typeof value === "string") return value === wanted
    return typeof value === "object" && value !== null && Object.values(value).some((one) => inside(one, depth + 1))
  }
  return inside(json, 0)
}

function recordIn(source: Source, places: NonNullable<Register["read"]>["answer"], channel: Channel): OnRecord {
  const { settings } = channel
  const inlet = `${channel.publicBase ?? ""}/in/${channel.key}`
  const ours = wholeAddressOf(channel, inlet)?.address ?? inlet
  const address = isAmong("json" in source ? source.json : undefined, ours)
    ? ours
    : textAt(source, places.address, settings)
  const events = at(source, places.events, settings)
  const says = textAt(source, places.error, settings)
  const waiting = Number(textAt(source, places.waiting, settings) ?? Number.NaN)
  const names = Array.isArray(events) ? (events as unknown[]) : String(events ?? "").split(/[\s,]+/)
  return {
    ...(address ? { address: hideWord(address, channel) } : {}),
    ...(events === undefined ? {} : { events: names.map(String).filter(Boolean) }),
    ...(says ? { lastError: { says } } : {}),
    ...(Number.isFinite(waiting) ? { waiting } : {}),
  }
}

/** An address that holds the channel's own word, without it. */
function hideWord(address: string, { secrets }: Channel): string {
  return Object.values(secrets)
    .filter((secret) => secret !== "")
    .reduce(
      (shown, secret) => [encodeURIComponent(secret), secret].reduce((text, one) => text.replaceAll(one, "•••"), shown),
      address,
    )
}

function wholeAddressOf(channel: Channel, address: string): { address: string; secret: string } | undefined {
  const found = hasProfile(channel) ? wordInAddress(channel, profileOf(channel)) : undefined
  const secret = found && channel.secrets[found.secret]
  if (!found || secret === undefined) return undefined
  return {
    address: `${address}?${encodeURIComponent(found.field)}=${encodeURIComponent(secret)}`,
    secret: found.secret,
  }
}

function handValues(channel: Channel, address: string): { field: string; value: string }[] {
  if (!hasProfile(channel)) return [{ field: "address for incoming messages", value: address }]
  const { queue, inbound } = profileOf(channel)
  if (queue || !inbound) return []
  const scheme = inbound.verify.find((one) => channel.secrets[one.secret] !== undefined)
  const word = scheme?.scheme === "word" && scheme.query ? fillTemplate(scheme.query, channel.settings) : undefined
  const query = word === undefined ? "" : `?${word}=… (the secret ${scheme!.secret})`
  const values = [{ field: "address for incoming messages", value: `${address}${query}` }]
  if (inbound.status) values.push({ field: "address for delivery reports", value: `${address}${query}` })
  if (scheme && !(scheme.scheme === "word" && word !== undefined))
    values.push({ field: "what calls are proven by", value: `the secret ${scheme.secret} (${scheme.scheme})` })
  return values
}

/** Media lie at an address that wants the account's own authorisation, or none. */
export const fetching: Fetching = {
  find(ref, channel) {
    const { fetch } = profileOf(channel)
    return fetch?.answer && !isAddress(ref) ? attachmentCall(fetch, ref, channel) : undefined
  },
  readFind(answer, channel) {
    const { fetch } = profileOf(channel)
    const body = "body" in answer && answer.status < 300 ? readAnswer(answer.body) : undefined
    const source = { json: body }
    const address = textAt(source, fetch?.answer?.address, channel.settings)
    if (address === undefined) return undefined
    const mime = textAt(source, fetch?.answer?.mime, channel.settings)
    const size = Number(textAt(source, fetch?.answer?.size, channel.settings) ?? Number.NaN)
    return { address, ...(mime ? { mime } : {}), ...(Number.isFinite(size) ? { size } : {}) }
  },
  fetch(address, channel) {
    const { outbound, fetch } = profileOf(channel)
    if (fetch && !isAddress(address)) return attachmentCall(fetch, address, channel)
    return {
      name: "media",
      method: "GET",
      address: [address],
      // Left out at the socket where the address is not the gateway's own.
      ...(outbound ? headersOf(outbound, channel) : {}),
      speaks: false,
    }
  },
}

function isAddress(ref: string): boolean {
  return /^https?:\/\//.test(ref)
}

/** The call for an attachment that is named by its message's id and its own. */
function attachmentCall(fetch: Calling, ref: string, channel: Channel): OutgoingCall {
  const [message = "", attachment = ""] = ref.split("/").map(decoded)
  return callOf(fetch, channel, { name: "attachment", values: { message, attachment } })
}
