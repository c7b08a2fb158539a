import type { Operation, Operations } from "../operations.ts"
import { callBelow } from "../operations.ts"
import { bearer } from "./calls.ts"

const read = (name: string, says: string, more: Partial<Operation> = {}): Operation => ({
  name,
  says,
  method: "GET",
  path: name,
  ...more,
})

/** Methods of the Web API, as its documentation names them; any other is called by its name, too. */
export const operations: Operations = {
  known: () => [
    read("auth.test", "who the token belongs to", { word: "me" }),
    read("conversations.list", "channels, and whether the bot is in them", {
      fields: ["cursor"],
      usual: { types: "public_channel,private_channel", exclude_archived: "true", limit: "200" },
      word: "groups",
    }),
    read("conversations.history", "one message by its ts, or the last ones of a channel", {
      fields: ["channel", "latest"],
      usual: { inclusive: "true", limit: "1" },
      word: "status",
    }),
    read("conversations.info", "one channel", { fields: ["channel"] }),
    read("conversations.members", "who is in a channel", { fields: ["channel"] }),
    read("users.info", "one person", { fields: ["user"] }),
    read("users.list", "all people", { fields: ["cursor"], usual: { limit: "200" } }),
    read("team.info", "the workspace"),
    read("files.info", "one file", { fields: ["file"] }),
    {
      name: "chat.postMessage",
      says: "a message, past the line and its order",
      method: "POST",
      path: "chat.postMessage",
      fields: ["channel", "text"],
    },
    {
      name: "conversations.join",
      says: "joins a public channel",
      method: "POST",
      path: "conversations.join",
      fields: ["channel"],
    },
  ],
  instead: {
    record: "Slack does not tell which addresses an app has on record: they are in the app's own pages.",
  },
  call: (wanted, channel) =>
    callBelow(wanted, channel, {
      base: [{ setting: "apiBase" }, "/api"],
      headers: { authorization: bearer },
      body: "json",
    }),
}
