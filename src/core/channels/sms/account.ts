import { accountFault, readAnswer } from "../graphErrors.ts"
import type { Account, Channel, Fetching } from "../kind.ts"
import { textAt } from "./fields.ts"
import { judgeAnswer } from "./judge.ts"
import { addressOf, headersOf } from "./render.ts"
import { profileOf } from "./shipped.ts"

export const account: Account = {
  check(channel) {
    const { check } = profileOf(channel)
    if (!check) return undefined
    return {
      name: "account",
      method: check.method,
      address: addressOf(check.address, channel),
      ...headersOf(check.authorization),
      speaks: false,
    }
  },
  readCheck(answer, channel) {
    const { check } = profileOf(channel)
    const number = String(channel.settings.number ?? "")
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    if (check && !body) return accountFault(judgeAnswer(answer, channel))
    const source = { json: body }
    const name = textAt(source, check?.answer.name, channel.settings)
    return {
      identity: {
        id: textAt(source, check?.answer.id, channel.settings) ?? number,
        handle: number,
        ...(name ? { name } : {}),
        remarks: check ? [] : ["This gateway has no call that says whether a key works; the first message will tell."],
      },
    }
  },
  byHand: (channel, address) => handValues(channel, address),
}

function handValues(channel: Channel, address: string): { field: string; value: string }[] {
  const word = channel.settings.wordField
  const query = typeof word === "string" && channel.secrets.sharedWord ? `?${word}=… (the secret sharedWord)` : ""
  return [
    { field: "address for incoming messages", value: `${address}${query}` },
    { field: "address for delivery reports", value: `${address}${query}` },
  ]
}

/** Media lie at an address that wants the account's own authorisation, or none. */
export const fetching: Fetching = {
  fetch(address, channel) {
    const { authorization } = profileOf(channel).outbound
    const own = address.startsWith(String(channel.settings.apiBase).replace(/\/+$/, ""))
    return { name: "media", method: "GET", address: [address], ...(own ? headersOf(authorization) : {}), speaks: false }
  },
}
