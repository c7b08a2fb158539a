import Joi from "joi"
import { apiBase } from "../apiBase.ts"
import { e164 } from "../../gateway/numbers.ts"
import { isHubHandshake } from "../../signature/hubSignature.ts"
import type { ChannelKind } from "../kind.ts"
import { account, fetching, uploading } from "./account.ts"
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

/** People are whole numbers without a plus sign; a group's id is anything else. */
function addressOf(given: string): string {
  if (!/^\+?[\d\s().\-/]+$/.test(given)) return given.trim()
  return (e164(given, undefined) ?? given).replace(/\D/g, "")
}

/** WhatsApp's Cloud API. Source of every rule: the provider's public documentation. */
export const whatsapp: ChannelKind = {
  kind: "whatsapp",
  provider: "WhatsApp",
  settings: Joi.object({
    apiBase: apiBase.default("https://graph.facebook.com").description("the Cloud API's address"),
    apiVersion: Joi.string()
      .pattern(/^v\d+\.\d+$/)
      .message("apiVersion is written as in v23.0")
      .default("v23.0")
      .description("the API's version, which stands in its addresses"),
    phoneNumberId: Joi.string()
      .pattern(/^\d+$/)
      .message("phoneNumberId is the number's id at the provider, digits only (not the telephone number)")
      .required()
      .description("the number's id at the provider, digits only; not the telephone number"),
    businessAccountId: Joi.string()
      .pattern(/^\d+$/)
      .message("businessAccountId is the business account's id at the provider, digits only")
      .required()
      .description("the business account's id at the provider, digits only"),
    listButton: Joi.string()
      .max(20)
      .default("Options")
      .description("what the button that opens a list of choices says"),
  }),
  secrets: Joi.object({
    accessToken: Joi.string()
      .pattern(/^\S+$/)
      .message("accessToken must not contain spaces")
      .required()
      .description("what sending is authorised with; a system user's does not expire"),
    appSecret: Joi.string()
      .pattern(/^\S+$/)
      .message("appSecret must not contain spaces")
      .required()
      .description("the app's secret, which calls are signed with"),
    verifyToken: Joi.string()
      .min(1)
      .max(256)
      .description("a word of your own, entered on both sides; made when left out"),
  }),
  addressOf,
  example: { phoneNumberId: "1", businessAccountId: "1" },
  madeSecrets: { verifyToken: 32 },
  abilities,
  pace,
  isHandshake: isHubHandshake,
  // Media are fetched with the token from where the Graph API says they lie.
  keyHosts: ["https://lookaside.fbsbx.com", "https://*.whatsapp.net"],
  verify,
  proof,
  parse,
  acknowledge,
  // Failed calls are repeated with growing pauses for up to seven days.
  repeats: () => true,
  render,
  looks,
  judge,
  account,
  operations,
  presenting,
  simulate,
  uploading,
  fetching,
}
