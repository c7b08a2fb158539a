import Joi from "joi"
import { apiBase } from "../apiBase.ts"
import type { ChannelKind } from "../kind.ts"
import { account, doubts, fetching, people, uploading } from "./account.ts"
import { acknowledge, acknowledgeLate, refuseSeen } from "./acknowledge.ts"
import { readBody } from "./body.ts"
import { judge } from "./judge.ts"
import { abilities, pace } from "./limits.ts"
import { looks } from "./looks.ts"
import { parse } from "./parse.ts"
import { render } from "./render.ts"
import { operations } from "./operations.ts"
import { presenting } from "./presence.ts"
import { simulate } from "./simulate.ts"
import { proof, verify } from "./verify.ts"

/** Slack's Events, Interactivity and Web API. Source of every rule: the provider's public documentation. */
export const slack: ChannelKind = {
  kind: "slack",
  mention: (address, label) => (/^[UW][A-Z0-9]+$/.test(address) ? `[${label}](mention:${address})` : undefined),
  provider: "Slack",
  settings: Joi.object({
    apiBase: apiBase.default("https://slack.com").description("Slack's address"),
  }),
  secrets: Joi.object({
    botToken: Joi.string()
      .pattern(/^\S+$/)
      .message("botToken must not contain spaces; it begins with xoxb-")
      .required()
      .description("the bot's token, which begins with xoxb-"),
    signingSecret: Joi.string()
      .pattern(/^\S+$/)
      .message("signingSecret must not contain spaces")
      .required()
      .description("the app's signing secret, which calls are signed with"),
  }),
  threads: true,
  readsByIdentity: true,
  madeSecrets: {},
  abilities,
  pace,
  patience: 2.5,
  // Files are fetched from files.slack.com, or a workspace's own name, with the bot token (url_private).
  keyHosts: ["https://*.slack.com"],
  longestBody: 1 * 1024 * 1024,
  verify,
  proof,
  parse,
  acknowledge,
  acknowledgeLate,
  refuseSeen,
  // Events come up to three times more; slash commands and presses never again.
  repeats: (call) => {
    const body = readBody(call)
    return "content" in body && (body.content as { type?: unknown } | null)?.type === "event_callback"
  },
  render,
  looks,
  judge,
  account,
  operations,
  presenting,
  simulate,
  doubts,
  people,
  uploading,
  fetching,
}
