import { accountFault, readAnswer } from "../channels/graphErrors.ts"
import type { Account, Channel, Fetching } from "../channels/kind.ts"
import { fillTemplate, textAt } from "./fields.ts"
import { judgeAnswer } from "./judge.ts"
import { addressOf, headersOf } from "./send.ts"
import { meaningOfState } from "./accountState.ts"
import { hasProfile, profileOf } from "./shipped.ts"

export const account: Account = {
  check(channel) {
    const check = hasProfile(channel) ? profileOf(channel).check : undefined
    if (!check) return undefined
    return {
      name: "account",
      method: check.method,
      address: addressOf(check.address, channel),
      ...headersOf(check, channel),
      speaks: false,
    }
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
    const state = textAt(source, check?.answer.state, channel.settings)
    const meaning = state === undefined ? undefined : meaningOfState(state, undefined, channel)
    const bad = state === undefined ? undefined : (profileOf(channel).state?.bad[state] ?? check?.bad?.[state])
    return {
      ...(meaning?.alarm ? { alarm: meaning.alarm } : {}),
      identity: {
        id: (textAt(source, check?.answer.id, channel.settings) ?? number) || channel.key,
        ...(number ? { handle: number } : {}),
        ...(name ? { name } : {}),
        ...(bad ? { restricted: [`The gateway says the account is "${state}": ${bad}.`] } : {}),
        remarks: check ? [] : ["This gateway has no call that says whether a key works; the first message will tell."],
      },
    }
  },
  byHand: (channel, address) => handValues(channel, address),
  wholeAddress(channel, address) {
    const found = hasProfile(channel) ? wordInAddress(channel) : undefined
    if (!found) return undefined
    const word = encodeURIComponent(channel.secrets[found.secret]!)
    return { address: `${address}?${encodeURIComponent(found.field)}=${word}`, secret: found.secret }
  },
}

/** The field of the address's query in which a word comes, and the secret it is. */
function wordInAddress(channel: Channel): { field: string; secret: string } | undefined {
  const scheme = profileOf(channel).inbound.verify.find((one) => channel.secrets[one.secret] !== undefined)
  const field = scheme?.scheme === "word" && scheme.query ? fillTemplate(scheme.query, channel.settings) : ""
  return field === "" ? undefined : { field, secret: scheme!.secret }
}

function handValues(channel: Channel, address: string): { field: string; value: string }[] {
  if (!hasProfile(channel)) return [{ field: "address for incoming messages", value: address }]
  const { queue, inbound } = profileOf(channel)
  if (queue) return []
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
  fetch(address, channel) {
    const { outbound } = profileOf(channel)
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
