import { accountFault, readAnswer } from "../graphErrors.ts"
import type { Account, Doubts, Fetching, People, Uploading } from "../kind.ts"
import type { OutgoingCall } from "../call.ts"
import { idAt, isObject, listAt, objectAt, textAt } from "../../message/json.ts"
import { ask, bearer, call } from "./calls.ts"
import { judgeAnswer } from "./judge.ts"
import { usefulScopes, wantedEvents, wantedScopes } from "./limits.ts"
import type { ProviderAnswer } from "../call.ts"

function okBody(answer: ProviderAnswer): { [field: string]: unknown } | undefined {
  const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
  return body?.ok === true ? body : undefined
}

export const account: Account = {
  check: () => call("auth.test", {}, false),
  readCheck(answer) {
    const body = okBody(answer)
    const id = idAt(body, "user_id")
    if (!body || id === undefined) return accountFault(judgeAnswer(answer))
    const name = textAt(body, "team")
    const handle = textAt(body, "user")
    const bot = idAt(body, "bot_id")
    return {
      identity: {
        id,
        ...(name ? { name } : {}),
        ...(handle ? { handle } : {}),
        ...(bot ? { also: [bot] } : {}),
        ...scopesOf("headers" in answer ? answer.headers["x-oauth-scopes"] : undefined),
      },
    }
  },
  grant: 'Add them under "OAuth & Permissions", install the app again, and set the new botToken.',
  byHand: ({ identity }, address) => [
    { field: "Socket Mode", value: "off: with it, nothing is sent to an address" },
    { field: "Event Subscriptions: Enable Events", value: "on" },
    { field: "Event Subscriptions: Request URL", value: address },
    { field: "Subscribe to bot events", value: wantedEvents.join(", ") },
    { field: "Interactivity & Shortcuts", value: "on" },
    { field: "Interactivity & Shortcuts: Request URL", value: address },
    { field: "Slash Commands: Request URL of each", value: address },
    {
      field: "App Home: Messages Tab",
      value:
        'on, with "Allow users to send Slash commands and messages from the messages tab": without it nobody can write to the bot',
    },
    {
      field: "Bot Token Scopes",
      value: [...wantedScopes, ...usefulScopes].join(", "),
      // Of the scopes alone the provider tells.
      ...(identity?.missing === undefined ? {} : { done: identity.missing.length === 0 }),
    },
    { field: "Install App", value: "again after each change of scopes or events, and the new botToken set here" },
    { field: "In each channel", value: "invite the bot: it hears only channels it is in" },
  ],
}

function scopesOf(scopes: string | undefined): { remarks: string[]; missing?: string[] } {
  const never = "Slash commands and button presses are never repeated: while this service is down, they are lost."
  if (scopes === undefined) return { remarks: [never] }
  const has = scopes.split(",").map((one) => one.trim())
  const lacks = (wanted: string[]) => wanted.filter((one) => !has.includes(one))
  const missing = lacks(wantedScopes)
  const useful = lacks(usefulScopes)
  return {
    missing,
    remarks: [
      ...(missing.length > 0
        ? [`The token lacks the scopes ${missing.join(", ")}: without them the bot cannot receive or send.`]
        : []),
      ...(useful.length > 0 ? [`It could do more with the scopes ${useful.join(", ")}.`] : []),
      never,
    ],
  }
}

export const people: People = {
  ask: (address) => ask("users.info", { user: address, include_locale: "true" }),
  read(answer) {
    const user = objectAt(okBody(answer), "user")
    if (!user) return undefined
    const profile = objectAt(user, "profile")
    const name =
      textAt(profile, "display_name") ??
      textAt(profile, "real_name") ??
      textAt(user, "real_name") ??
      textAt(user, "name")
    const handle = textAt(user, "name")
    const language = textAt(user, "locale")?.split("-")[0]
    return {
      ...(name ? { name } : {}),
      ...(handle ? { handle } : {}),
      ...(language ? { language } : {}),
      ...(user.is_bot === true ? { bot: true } : {}),
    }
  },
  askPlace: (address) => ask("conversations.info", { channel: address }),
  readPlace(answer) {
    const name = textAt(objectAt(okBody(answer), "channel"), "name")
    return name && `#${name}`
  },
}

/** A file's place is asked for first, its bytes brought there; the message that names it then completes it. */
export const uploading: Uploading = {
  ask: (upload) =>
    ask("files.getUploadURLExternal", {
      filename: upload.name,
      length: String(Buffer.from(upload.data, "base64").length),
    }),
  read(answer, { data, mime, name }) {
    const body = okBody(answer)
    const ref = idAt(body, "file_id")
    const sendTo = textAt(body, "upload_url")
    if (ref === undefined || sendTo === undefined) return undefined
    const bytes: OutgoingCall = {
      name: "upload",
      method: "POST",
      address: [sendTo],
      body: { form: [{ name: "filename", data, filename: name, mime }] },
      speaks: false,
      timeout: 60_000,
    }
    // A file is completed once, into one message.
    return { ref, lasts: 0, then: bytes }
  },
}

/** Without the scope files:read the address answers with a page for signing in instead of the content. */
export const fetching: Fetching = {
  find: (ref) => (ref.startsWith("file:") ? ask("files.info", { file: ref.slice(5) }) : undefined),
  readFind(answer) {
    const file = objectAt(okBody(answer), "file")
    const address = textAt(file, "url_private_download") ?? textAt(file, "url_private")
    const mime = textAt(file, "mimetype")
    return address === undefined ? undefined : { address, ...(mime ? { mime } : {}) }
  },
  fetch: (address) => ({
    name: "file content",
    method: "GET",
    address: [address],
    headers: { authorization: bearer },
    speaks: false,
  }),
}

/** Whether a message arrived can be looked up: our mark stands in its metadata. */
export const doubts: Doubts = {
  // What was said at the address of a slash command may be for one person's eyes only, and then stands in no history.
  covers: (call) => call.name !== "response_url",
  looksBack: true,
  ask(place, since) {
    const query = {
      channel: place.address,
      oldest: String(since.getTime() / 1000 - 60),
      include_all_metadata: "true",
      limit: "100",
    }
    return place.topic
      ? ask("conversations.replies", { ...query, ts: place.topic })
      : ask("conversations.history", query)
  },
  read(answer, mark) {
    const body = okBody(answer)
    if (!body) return { arrived: "unknown" }
    for (const message of listAt(body, "messages")) {
      const payload = objectAt(objectAt(message, "metadata"), "event_payload")
      const providerId = idAt(message, "ts")
      if (isObject(payload) && payload.call === mark && providerId) return { arrived: "yes", providerId }
    }
    return { arrived: body.has_more === true ? "unknown" : "no" }
  },
}
