import type { Operation, Operations } from "../operations.ts"
import { callBelow, reads } from "../operations.ts"
import { bearer } from "./calls.ts"

/** Edges of the page's own API, as its documentation names them. */
export const operations: Operations = {
  known: (): Operation[] => [
    reads("me", "the page the token belongs to", { usual: { fields: "id,name" }, word: "me" }),
    reads("subscribed_apps", "which events of the page go to the app", {
      path: "{pageId}/subscribed_apps",
      word: "record",
    }),
    reads("conversations", "the page's conversations", {
      path: "{pageId}/conversations",
      fields: ["platform", "user_id"],
      usual: { platform: "messenger" },
      word: "groups",
    }),
    reads("message", "one message, by its id", {
      path: "{message_id}",
      fields: ["message_id"],
      usual: { fields: "id,created_time,from,to,message" },
      word: "status",
    }),
    reads("messenger_profile", "greeting, menu and first button", {
      path: "me/messenger_profile",
      usual: { fields: "greeting,get_started,persistent_menu,ice_breakers,commands" },
    }),
    reads("user", "a person's name", {
      path: "{psid}",
      fields: ["psid"],
      usual: { fields: "first_name,last_name,profile_pic" },
    }),
    {
      name: "messages",
      says: "a message, past the line and its order",
      method: "POST",
      path: "me/messages",
      fields: ["recipient", "message"],
      usual: { messaging_type: "RESPONSE" },
    },
  ],
  call: (wanted, channel) =>
    callBelow(wanted, channel, {
      base: [{ setting: "apiBase" }, "/", { setting: "apiVersion" }],
      headers: { authorization: bearer },
      body: "json",
    }),
}
