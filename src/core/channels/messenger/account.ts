import { accountFault, readAnswer } from "../graphErrors.ts"
import { askPermissions, missingPermissions } from "../graphToken.ts"
import type { Account, Fetching, People, Uploading } from "../kind.ts"
import { idAt, listAt, textAt } from "../../message/json.ts"
import { graph } from "./calls.ts"
import { judgeAnswer } from "./judge.ts"
import { wantedFields } from "./limits.ts"

const subscribed = [{ setting: "pageId" }, "/subscribed_apps"]

export const account: Account = {
  check: () => graph("me", "GET", ["me?fields=id,name"]),
  readCheck(answer) {
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    const id = idAt(body, "id")
    if (id === undefined) return accountFault(judgeAnswer(answer))
    const name = textAt(body, "name")
    return { identity: { id, ...(name ? { name } : {}), remarks: [] } }
  },
  permissions: () => askPermissions("pageToken"),
  readPermissions: (answer) => missingPermissions(answer, ["pages_messaging", "pages_manage_metadata"]),
  /** Subscribes the page to its events. Where they go is set in the app's own pages, once for all of its pages. */
  connect: () => graph("subscribed_apps", "POST", [...subscribed], { subscribed_fields: wantedFields.join(",") }),
  disconnect: () => graph("subscribed_apps", "DELETE", [...subscribed]),
  lookUp: () => graph("subscribed_apps", "GET", [...subscribed]),
  readLookUp(answer) {
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    if (!body) return accountFault(judgeAnswer(answer))
    const fields = listAt(body, "data").flatMap((app) => listAt(app, "subscribed_fields"))
    return { onRecord: { events: fields.filter((field) => typeof field === "string") } }
  },
  compare(channel, onRecord) {
    const again = `Run "wobbet channel connect ${channel.key}".`
    const on = onRecord.events ?? []
    if (on.length === 0)
      return [
        `The page is subscribed to nothing, so Messenger sends nothing; after an hour of failed calls the provider switches a subscription off by itself. ${again}`,
      ]
    const missing = wantedFields.filter((field) => !on.includes(field))
    if (missing.length === 0) return []
    return [`The page is not subscribed to ${missing.join(", ")}. ${again}`]
  },
  byHand: (_channel, address) => [
    { field: "Callback URL", value: address },
    { field: "Verify token", value: "the secret verifyToken" },
    { field: "Webhook fields of the page", value: wantedFields.join(", ") },
    {
      field: "App mode",
      value: "Live, with advanced access to pages_messaging: until then only people with a role in the app are heard",
    },
    {
      field: "Page settings: Messaging",
      value: "people may contact the page; other apps that answer are switched off",
    },
  ],
}

/** Messages name nobody: the page may ask who wrote to it. */
export const people: People = {
  ask: (address) => graph("who is it", "GET", [`${encodeURIComponent(address)}?fields=first_name,last_name,locale`]),
  read(answer) {
    const body = "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    const name = [textAt(body, "first_name"), textAt(body, "last_name")].filter(Boolean).join(" ")
    const language = textAt(body, "locale")?.split("_")[0]
    return name ? { name, ...(language ? { language } : {}) } : undefined
  },
}

/** Attachments that are marked as reusable are kept; the provider names no end. */
export const uploading: Uploading = {
  ask: (upload) => ({
    ...graph("message_attachments", "POST", ["me/message_attachments"]),
    body: {
      form: [
        {
          name: "message",
          value: JSON.stringify({ attachment: { type: typeOf(upload.mime), payload: { is_reusable: true } } }),
        },
        { name: "filedata", data: upload.data, filename: upload.name, mime: upload.mime },
      ],
    },
    timeout: 60_000,
  }),
  read(answer) {
    const ref = "body" in answer && answer.status === 200 ? idAt(readAnswer(answer.body), "attachment_id") : undefined
    return ref === undefined ? undefined : { ref, lasts: 30 * 86_400 }
  },
}

function typeOf(mime: string): string {
  const [sort] = mime.split("/")
  return sort === "image" || sort === "audio" || sort === "video" ? sort : "file"
}

/** Attachments come with an address of their own that wants no key. */
export const fetching: Fetching = {
  fetch: (address) => ({ name: "attachment", method: "GET", address: [address], speaks: false }),
}
