import type { Operation, Operations } from "../operations.ts"
import { callBelow } from "../operations.ts"
import { bearer } from "./calls.ts"

/** Edges of the page's own API, as its documentation names them. */
export const operations: Operations = {
  known: (): Operation[] => [
    {
      name: "me",
      says: "the page the token belongs to",
      method: "GET",
      path: "me",
      usual: { fields: "id,name" },
      word: "me",
    },
    {
      name: "subscribed_apps",
      says: "which events of the page go to the app",
      method: "GET",
      path: "{pageId}/subscribed_apps",
      word: "record",
    },
    {
      name: "conversations",
      says: "the page's conversations",
      method: "GET",
      path: "{pageId}/conversations",
      fields: ["platform", "user_id"],
      usual: { platform: "messenger" },
      word: "groups",
    },
    {
      name: "message",
      says: "one message, by its id",
      method: "GET",
      path: "{message_id}",
      fields: ["message_id"],
      usual: { fields: "id,created_time,from,to,message" },
      word: "status",
    },
    {
      name: "messenger_profile",
      says: "greeting, menu and first button",
      method: "GET",
      path: "me/messenger_profile",
      usual: { fields: "greeting,get_started,persistent_menu,ice_breakers,commands" },
    },
    {
      name: "user",
      says: "a person's name",
      method: "GET",
      path: "{psid}",
      fields: ["psid"],
      usual: { fields: "first_name,last_name,profile_pic" },
    },
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
