import Joi from "joi"
import { apiBase } from "../apiBase.ts"
import { getCountries } from "libphonenumber-js/min"
import { isHandshake } from "../../gateway/handshake.ts"
import { inline, joined } from "../../gateway/inline.ts"
import { cannot, further } from "../../gateway/can.ts"
import { doubts } from "../../gateway/find.ts"
import { historyOf, queuePolling } from "../../gateway/queue.ts"
import { gatewayAddress } from "../../gateway/parse.ts"
import { profileSchemas } from "../../gateway/settings.ts"
import { hasProfile, profileOf, profiles } from "../../gateway/shipped.ts"
import type { ChannelKind } from "../kind.ts"
import { secretInBody } from "../../gateway/verify.ts"
import { account, fetching } from "./account.ts"
import { acknowledge } from "./acknowledge.ts"
import { judge } from "./judge.ts"
import { abilities, pace } from "./limits.ts"
import { looks } from "./looks.ts"
import { parse } from "./parse.ts"
import { render } from "./render.ts"
import { operations } from "./operations.ts"
import { simulate } from "./simulate.ts"
import { proof, verify } from "./verify.ts"

const settings = Joi.object({
  profile: Joi.string().description("how the gateway speaks; left out until the channel has learned it"),
  apiBase: apiBase.description("the gateway's address, its version included"),
  number: Joi.string().description("our own number or name at the gateway"),
  country: Joi.valid(...getCountries()).description("the country numbers without a plus sign belong to, such as GB"),
})

/** A gateway, bridge or provider that a profile describes. */
export const custom: ChannelKind = {
  kind: "custom",
  provider: "The gateway",
  settings: settings.unknown(true),
  secrets: Joi.object().pattern(Joi.string(), Joi.string()),
  schemasFor: (given, profile) => profileSchemas(settings, profile ?? profiles[String(given.profile)]),
  example: { profile: "plain-json", apiBase: "https://gateway.example", number: "+447700900100" },
  addressOf: gatewayAddress,
  madeSecrets: {},
  abilities,
  pace,
  isHandshake,
  verify,
  proof,
  parse,
  acknowledge,
  repeats: (_call, channel) => hasProfile(channel) && profileOf(channel).inbound?.repeats === true,
  render,
  inline,
  joined,
  looks,
  judge,
  account,
  operations,
  simulate,
  fetching,
  polling: queuePolling,
  history: historyOf,
  doubts,
  cannot,
  secretInBody,
  further,
  tells: (channel) => hasProfile(channel) && profileOf(channel).tells,
}
