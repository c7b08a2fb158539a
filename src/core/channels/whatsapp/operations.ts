import type { Operation, Operations } from "../operations.ts"
import { callBelow } from "../operations.ts"
import { bearer } from "./calls.ts"

/** Edges of the Cloud API, as its documentation names them. */
export const operations: Operations = {
  known: (): Operation[] => [
    {
      name: "phone number",
      says: "the number the keys belong to, and its state",
      method: "GET",
      path: "{phoneNumberId}",
      usual: { fields: "id,display_phone_number,verified_name,quality_rating,status,throughput" },
      word: "me",
    },
    {
      name: "subscribed_apps",
      says: "which apps get the account's events",
      method: "GET",
      path: "{businessAccountId}/subscribed_apps",
      word: "record",
    },
    {
      name: "phone_numbers",
      says: "all numbers of the account",
      method: "GET",
      path: "{businessAccountId}/phone_numbers",
    },
    {
      name: "whatsapp_business_profile",
      says: "what people see of the business",
      method: "GET",
      path: "{phoneNumberId}/whatsapp_business_profile",
      usual: { fields: "about,address,description,email,profile_picture_url,websites,vertical" },
    },
    {
      name: "message_templates",
      says: "all templates and how far their approval is",
      method: "GET",
      path: "{businessAccountId}/message_templates",
      fields: ["name", "status"],
    },
    {
      name: "media",
      says: "where a file lies that somebody sent",
      method: "GET",
      path: "{media_id}",
      fields: ["media_id"],
    },
    {
      name: "conversational_automation",
      says: "the commands and prompts people see",
      method: "GET",
      path: "{phoneNumberId}",
      usual: { fields: "conversational_automation" },
    },
    { name: "groups", says: "the groups of the number", method: "GET", path: "{phoneNumberId}/groups", word: "groups" },
    {
      name: "messages",
      says: "a message, past the line and its order",
      method: "POST",
      path: "{phoneNumberId}/messages",
      fields: ["to", "type", "text"],
      usual: { messaging_product: "whatsapp" },
    },
  ],
  instead: {
    status:
      "The Cloud API tells what became of a message by itself, and cannot be asked: the passage of the message has what it told.",
  },
  call: (wanted, channel) =>
    callBelow(wanted, channel, {
      base: [{ setting: "apiBase" }, "/", { setting: "apiVersion" }],
      headers: { authorization: bearer },
      body: "json",
    }),
}
