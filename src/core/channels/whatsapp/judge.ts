import type { CodeMeaning } from "../graphErrors.ts"
import { judgeGraph } from "../graphErrors.ts"
import type { Outcome } from "../kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../call.ts"
import { idAt, listAt } from "../../message/json.ts"

export function judge(_call: OutgoingCall, answer: ProviderAnswer): Outcome {
  return judgeAnswer(answer)
}

export function judgeAnswer(answer: ProviderAnswer): Outcome {
  return judgeGraph(
    answer,
    "WhatsApp",
    (body) => idAt(listAt(body, "messages")[0], "id") ?? idAt(body, "id"),
    (code) => (code >= 200 && code <= 299 ? { as: "refused", remedy: permission } : meanings[code]),
  )
}

const permission = "The token lacks a permission for this. Give it whatsapp_business_messaging, then try again."
const outside =
  "More than 24 hours have passed since the person's last words: only an approved template may be sent now."
const blocked = "The account or the number is not in good standing. Look at its state in the provider's pages."

/** From the Cloud API's public list of error codes. */
const meanings: { [code: number]: CodeMeaning } = {
  0: { as: "lockedOut" },
  190: { as: "lockedOut" },
  10: { as: "refused", remedy: permission },
  100: { as: "refused", remedy: "The provider could not make sense of a field. Edit the message, or drop it." },
  131005: { as: "refused", remedy: permission },
  131026: {
    as: "refused",
    remedy: "This person cannot be reached: no such account, or it takes no messages from businesses.",
  },
  131030: {
    as: "refused",
    remedy: "A test account writes only to listed numbers: add this one in the provider's pages.",
  },
  131047: { as: "refused", remedy: outside },
  131050: { as: "refused", remedy: "The person asked for no more marketing. Send nothing of that sort." },
  131051: { as: "refused", remedy: "The provider does not know this sort of message." },
  131052: { as: "refused", remedy: "The provider could not fetch the media." },
  131053: { as: "refused", remedy: "The provider could not take the media: look at its type and size." },
  132000: { as: "refused", remedy: "The template wants another number of parameters." },
  132001: { as: "refused", remedy: "There is no approved template of that name in that language." },
  132012: { as: "refused", remedy: "A parameter is not of the form the template wants." },
  132015: { as: "refused", remedy: "The provider has paused the template: people answered it badly." },
  132016: { as: "refused", remedy: "The provider has disabled the template for good." },
  131042: { as: "refused", remedy: "The business account has no valid way to pay. Fix that at the provider." },
  131049: { as: "refused", remedy: "The provider holds this back to spare the person. Do not send it again soon." },
  368: { as: "lockedOut", remedy: blocked },
  131031: { as: "lockedOut", remedy: blocked },
  133010: {
    as: "lockedOut",
    remedy: "The number is not registered. Register it at the provider, then check the channel.",
  },
  4: { as: "again", after: 60 },
  80007: { as: "again", after: 60 },
  130429: { as: "again", after: 5 },
  131056: { as: "again", after: 6 },
  131048: { as: "again", after: 300 },
  131057: { as: "again", after: 120 },
  1: { as: "again" },
  2: { as: "again" },
  131000: { as: "again" },
  131016: { as: "again" },
}
