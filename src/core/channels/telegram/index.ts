import Joi from "joi"
import { apiBase } from "../apiBase.ts"
import type { ChannelKind } from "../kind.ts"
import { account, fetching } from "./account.ts"
import { acknowledge, acknowledgeLate } from "./acknowledge.ts"
import { openTopic } from "./calls.ts"
import { judge } from "./judge.ts"
import { abilities, pace } from "./limits.ts"
import { looks } from "./looks.ts"
import { parse } from "./parse.ts"
import { polling } from "./poll.ts"
import { render } from "./render.ts"
import { operations } from "./operations.ts"
import { presenting } from "./presence.ts"
import { simulate } from "./simulate.ts"
import { proof, verify } from "./verify.ts"

/** Telegram's Bot API. Source of every rule: the provider's public documentation. */
export const telegram: ChannelKind = {
  kind: "telegram",
  provider: "Telegram",
  settings: Joi.object({
    apiBase: apiBase.default("https://api.telegram.org").description("the Bot API's address"),
    receive: Joi.valid("webhook", "polling")
      .default("webhook")
      .description("how updates arrive: by webhook, or by polling"),
  }),
  secrets: Joi.object({
    token: Joi.string()
      .pattern(/^\d+:[A-Za-z0-9_-]{5,}$/)
      .message("a bot token is digits, a colon and letters, such as 123456:AbC…")
      .required()
      .description("the bot's token: digits, a colon and letters"),
    hookSecret: Joi.string()
      .pattern(/^[A-Za-z0-9_-]{1,256}$/)
      .message("hookSecret takes 1 to 256 of A–Z a–z 0–9 _ -")
      .description("what calls prove themselves with; made when left out"),
  }),
  mention: (address, label) => (/^\d+$/.test(address) ? `[${label}](tg://user?id=${address})` : undefined),
  topics: { open: openTopic, isGone: (why) => /thread not found|topic_deleted/i.test(why) },
  readsByIdentity: true,
  // Chat ids of groups and channels are negative.
  placeKind: (address) => (address.startsWith("-") ? "group" : "direct"),
  madeSecrets: { hookSecret: 48 },
  abilities,
  pace,
  longestBody: 1 * 1024 * 1024,
  verify,
  proof,
  parse,
  acknowledge,
  acknowledgeLate,
  // "In case of an unsuccessful request, we will repeat the request": setWebhook's documentation.
  repeats: () => true,
  render,
  looks,
  judge,
  account,
  operations,
  presenting,
  simulate,
  fetching,
  polling: (channel) => (channel.settings.receive === "polling" ? polling : undefined),
}
