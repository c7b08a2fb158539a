import type { Operations } from "../operations.ts"
import { callBelow, reads } from "../operations.ts"
import { bearer } from "./calls.ts"

/** Methods of the Web API, as its documentation names them; any other is called by its name, too. */
export const operations: Operations = {
  known: () => [
    reads("auth.test", "who the token belongs to", { word: "me" }),
    reads("conversations.list", "channels, and whether the bot is in them", {
      fields: ["cursor"],
      usual: { types: "public_channel,private_channel", exclude_archived: "true", limit: "200" },
      word: "groups",
    }),
    reads("conversations.history", "one message by its ts, or the last ones of a channel", {
      fields: ["channel", "latest"],
      usual: { inclusive: "true", limit: "1" },
      word: "status",
    }),
    reads("conversations.info", "one channel", { fields: ["channel"] }),
    reads("conversations.members", "who is in a channel", { fields: ["channel"] }),
    reads("users.info", "one person", { fields: ["user"] }),
    reads("users.list", "all people", { fields: ["cursor"], usual: { limit: "200" } }),
    reads("team.info", "the workspace"),
    reads("files.info", "one file", { fields: ["file"] }),
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
