import type { Operation, Operations } from "../operations.ts"
import { callBelow, reads } from "../operations.ts"
import { bearer } from "./calls.ts"

/** Edges of the Cloud API, as its documentation names them. */
export const operations: Operations = {
  known: (): Operation[] => [
    reads("phone number", "the number the keys belong to, and its state", {
      path: "{phoneNumberId}",
      usual: { fields: "id,display_phone_number,verified_name,quality_rating,status,throughput" },
      word: "me",
    }),
    reads("subscribed_apps", "which apps get the account's events", {
      path: "{businessAccountId}/subscribed_apps",
      word: "record",
    }),
    reads("phone_numbers", "all numbers of the account", { path: "{businessAccountId}/phone_numbers" }),
    reads("whatsapp_business_profile", "what people see of the business", {
      path: "{phoneNumberId}/whatsapp_business_profile",
      usual: { fields: "about,address,description,email,profile_picture_url,websites,vertical" },
    }),
    reads("message_templates", "all templates and how far their approval is", {
      path: "{businessAccountId}/message_templates",
      fields: ["name", "status"],
    }),
    reads("media", "where a file lies that somebody sent", { path: "{media_id}", fields: ["media_id"] }),
    reads("conversational_automation", "the commands and prompts people see", {
      path: "{phoneNumberId}",
      usual: { fields: "conversational_automation" },
    }),
    reads("groups", "the groups of the number", { path: "{phoneNumberId}/groups", word: "groups" }),
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
