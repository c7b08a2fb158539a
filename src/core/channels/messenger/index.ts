import Joi from "joi"
import { apiBase } from "../apiBase.ts"
import { isHubHandshake } from "../../signature/hubSignature.ts"
import type { ChannelKind } from "../kind.ts"
import { account, fetching, people, uploading } from "./account.ts"
import { acknowledge } from "./acknowledge.ts"
import { judge } from "./judge.ts"
import { abilities, pace } from "./limits.ts"
import { looks } from "./looks.ts"
import { parse } from "./parse.ts"
import { render } from "./render.ts"
import { operations } from "./operations.ts"
import { presenting } from "./presence.ts"
import { simulate } from "./simulate.ts"
import { proof, verify } from "./verify.ts"

/** Page messaging on Messenger. Source of every rule: the provider's public documentation. */
export const messenger: ChannelKind = {
  kind: "messenger",
  provider: "Messenger",
  settings: Joi.object({
    apiBase: apiBase.default("https://graph.facebook.com").description("the Graph API's address"),
    apiVersion: Joi.string()
      .pattern(/^v\d+\.\d+$/)
      .message("apiVersion is written as in v23.0")
      .default("v23.0")
      .description("the API's version, which stands in its addresses"),
    pageId: Joi.string()
      .pattern(/^\d+$/)
      .message("pageId is the page's id at the provider, digits only")
      .required()
      .description("the page's id at the provider, digits only"),
  }),
  secrets: Joi.object({
    pageToken: Joi.string()
      .pattern(/^\S+$/)
      .message("pageToken must not contain spaces")
      .required()
      .description("the page's access token, which sending is authorised with"),
    appSecret: Joi.string()
      .pattern(/^\S+$/)
      .message("appSecret must not contain spaces")
      .required()
      .description("the app's secret, which calls are signed with"),
    verifyToken: Joi.string().min(1).max(256).required().description("a word of your own, entered on both sides"),
  }),
  example: { pageId: "1" },
  madeSecrets: {},
  abilities,
  pace,
  patience: 4,
  isHandshake: isHubHandshake,
  verify,
  proof,
  parse,
  acknowledge,
  // Failed calls are repeated for hours; after about one, the provider also switches the subscription off.
  repeats: () => true,
  render,
  looks,
  judge,
  account,
  operations,
  presenting,
  simulate,
  people,
  uploading,
  fetching,
}
