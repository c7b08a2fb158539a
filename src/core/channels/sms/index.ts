import Joi from "joi"
import { apiBase } from "../apiBase.ts"
import { getCountries } from "libphonenumber-js/min"
import { isHandshake } from "../../gateway/handshake.ts"
import { inline, joined } from "../../gateway/inline.ts"
import { e164 } from "../../gateway/numbers.ts"
import { cannot, further } from "../../gateway/can.ts"
import { doubts } from "../../gateway/find.ts"
import { historyOf, queuePolling } from "../../gateway/queue.ts"
import { gatewayAddress } from "../../gateway/parse.ts"
import { profileSchemas } from "../../gateway/settings.ts"
import { profileOf, profiles } from "../../gateway/shipped.ts"
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
  profile: Joi.string().default("form-gateway").description("how the gateway speaks"),
  apiBase: apiBase.required().description("the gateway's address, its version included"),
  number: Joi.string()
    .required()
    .custom((value: string, helpers) => {
      const number = e164(value, undefined) ?? (/^[A-Za-z0-9 ]{1,11}$/.test(value) ? value : undefined)
      return (
        number ?? helpers.message({ custom: '"number" is our own number, such as +447700900999, or a sender name' })
      )
    })
    .description("our own number"),
  country: Joi.valid(...getCountries()).description("the country numbers without a plus sign belong to, such as GB"),
  helpText: Joi.string().max(640).description("the answer to HELP and INFO where no route takes them"),
})

/** SMS through any gateway a profile describes. Sources: the gateways' public documentation, 3GPP TS 23.038, OMA. */
export const sms: ChannelKind = {
  kind: "sms",
  stopWords: true,
  provider: "The gateway",
  title: "SMS",
  settings: settings.unknown(true),
  secrets: Joi.object().pattern(Joi.string(), Joi.string()),
  schemasFor: (given, profile) =>
    profileSchemas(settings, profile ?? profiles[String(given.profile ?? "form-gateway")]),
  example: { apiBase: "https://gateway.example", number: "+447700900100", accountId: "1" },
  addressOf: gatewayAddress,
  madeSecrets: {},
  abilities,
  pace,
  isHandshake,
  longestBody: 1 * 1024 * 1024,
  verify,
  proof,
  parse,
  acknowledge,
  repeats: (_call, channel) => profileOf(channel).inbound?.repeats === true,
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
}
