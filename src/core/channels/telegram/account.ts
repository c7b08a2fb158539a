import type { Account, Channel, Fetching, OnRecord } from "../kind.ts"
import type { ProviderAnswer } from "../call.ts"
import { idAt, listAt, numberAt, objectAt, textAt } from "../../message/json.ts"
import { addressDifference } from "../addressDifference.ts"
import { call } from "./calls.ts"
import { judge, readAnswer } from "./judge.ts"
import { wantedUpdates } from "./limits.ts"

export const account: Account = {
  check: () => call("getMe", {}, { speaks: false }),
  readCheck(answer) {
    const result = resultOf(answer)
    if (!result) return fault(answer)
    const id = idAt(result, "id")
    if (id === undefined)
      return { fault: "getMe names no id", remedy: "Is apiBase the Bot API's address?", lockedOut: false }
    const name = textAt(result, "first_name")
    const handle = textAt(result, "username")
    const remarks =
      result.can_read_all_group_messages === false
        ? ["In groups it sees only commands, answers to it and mentions of it (privacy mode is on)."]
        : []
    const joins = result.can_join_groups === false ? ["It may not be added to groups."] : []
    return {
      identity: { id, ...(name ? { name } : {}), ...(handle ? { handle } : {}), remarks: [...remarks, ...joins] },
    }
  },
  byHand: ({ identity }) => {
    const remark = (words: string) => identity?.remarks?.some((one) => one.includes(words)) === true
    const told = identity === undefined ? {} : { done: !remark("privacy mode is on") }
    return [
      {
        field: "Group privacy (/setprivacy)",
        value: "off, where the bot is to hear all that is said in groups",
        ...told,
      },
      {
        field: "Groups (/setjoingroups)",
        value: "allowed, where it is to be added to groups",
        ...(identity === undefined ? {} : { done: !remark("may not be added") }),
      },
      { field: "Reactions", value: "the bot is an administrator of the group: only then is it told of them" },
      { field: "Broadcast channels", value: "the bot is an administrator of the channel" },
    ]
  },
  connect: (_channel, address) =>
    call(
      "setWebhook",
      { url: address, secret_token: { secret: "hookSecret" }, allowed_updates: wantedUpdates, max_connections: 40 },
      { speaks: false },
    ),
  disconnect: () => call("deleteWebhook", { drop_pending_updates: false }, { speaks: false }),
  lookUp: () => call("getWebhookInfo", {}, { speaks: false }),
  readLookUp(answer) {
    const result = resultOf(answer)
    return result ? { onRecord: readRecord(result) } : fault(answer)
  },
  compare,
}

function readRecord(result: { [key: string]: unknown }): OnRecord {
  const address = textAt(result, "url")
  const waiting = numberAt(result, "pending_update_count")
  const at = numberAt(result, "last_error_date")
  const says = textAt(result, "last_error_message")
  const connections = numberAt(result, "max_connections")
  const events = listAt(result, "allowed_updates").filter((one) => typeof one === "string")
  return {
    ...(address ? { address } : {}),
    ...(waiting !== undefined ? { waiting } : {}),
    ...(says ? { lastError: { ...(at ? { at: new Date(at * 1000).toISOString() } : {}), says } } : {}),
    ...(connections ? { connections } : {}),
    ...(events.length > 0 ? { events } : {}),
  }
}

function compare(channel: Channel, onRecord: OnRecord, address: string): string[] {
  const polls = channel.settings.receive === "polling"
  if (polls) {
    if (!onRecord.address) return []
    return [
      `This channel polls, but Telegram still has an address on record, ${onRecord.address}, and refuses polling until it is gone. Run "wobbet channel connect ${channel.key}": for a polling channel it takes the address away.`,
    ]
  }
  const again = `Run "wobbet channel connect ${channel.key}".`
  if (!onRecord.address) return [`Telegram has no address on record, so it sends nothing. ${again}`]
  const differences: string[] = []
  if (onRecord.address !== address)
    differences.push(`${addressDifference("Telegram", onRecord.address, address)} ${again}`)
  const missing = wantedUpdates.filter((name) => onRecord.events !== undefined && !onRecord.events.includes(name))
  if (missing.length > 0) differences.push(`Telegram was not asked to send ${missing.join(", ")}. ${again}`)
  return differences
}

function resultOf(answer: ProviderAnswer): { [key: string]: unknown } | undefined {
  if ("failure" in answer || answer.status !== 200) return undefined
  const body = readAnswer(answer.body)
  return body?.ok === true ? objectAt(body, "result") : undefined
}

function fault(answer: ProviderAnswer): { fault: string; remedy: string; lockedOut: boolean } {
  const outcome = judge(call("getMe", {}, { speaks: false }), answer)
  if (outcome.outcome === "lockedOut") return { fault: outcome.why, remedy: outcome.remedy, lockedOut: true }
  const why = "why" in outcome ? outcome.why : "the answer has no result"
  return { fault: why, remedy: "Check apiBase and the network, then try again.", lockedOut: false }
}

/** A file's path is told on asking, for files up to 20 MB; the content lies under it for an hour at least. */
export const fetching: Fetching = {
  find: (ref) => call("getFile", { file_id: ref }, { speaks: false }),
  readFind(answer) {
    const result = resultOf(answer)
    const path = textAt(result, "file_path")
    const size = numberAt(result, "file_size")
    return path === undefined ? undefined : { address: path, ...(size !== undefined ? { size } : {}) }
  },
  fetch: (address) => ({
    name: "file content",
    method: "GET",
    address: [{ setting: "apiBase" }, "/file/bot", { secret: "token" }, `/${address.replace(/^\//, "")}`],
    speaks: false,
  }),
}
