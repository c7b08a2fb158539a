import type { CodeMeaning } from "../graphErrors.ts"
import { judgeGraph } from "../graphErrors.ts"
import type { Outcome } from "../kind.ts"
import type { OutgoingCall, ProviderAnswer } from "../call.ts"
import { idAt } from "../../message/json.ts"

export function judge(_call: OutgoingCall, answer: ProviderAnswer): Outcome {
  return judgeAnswer(answer)
}

export function judgeAnswer(answer: ProviderAnswer): Outcome {
  return judgeGraph(answer, "Messenger", (body) => idAt(body, "message_id"), meaning)
}

const permission = "The token lacks a permission for this: the page's own token with pages_messaging is needed."

function meaning(code: number, subcode: number | undefined): CodeMeaning | undefined {
  if (code === 10 && subcode === 2018278)
    return {
      as: "refused",
      remedy:
        "More than 24 hours have passed since the person's last words: nothing may be sent until they write again.",
    }
  if (code === 10 || (code >= 200 && code <= 299)) return { as: "refused", remedy: permission }
  if (code === 100 && subcode === 2018001)
    return { as: "refused", remedy: "The page does not know this person; their id may be another page's." }
  return meanings[code]
}

const meanings: { [code: number]: CodeMeaning } = {
  190: { as: "lockedOut" },
  102: { as: "lockedOut" },
  368: {
    as: "lockedOut",
    remedy: "The page is blocked from sending for a while. Look at its state in the provider's pages.",
  },
  551: { as: "refused", remedy: "This person takes no messages just now: they left, or blocked the page." },
  100: { as: "refused", remedy: "The provider could not make sense of a field. Edit the message, or drop it." },
  613: { as: "again", after: 30 },
  4: { as: "again", after: 60 },
  32: { as: "again", after: 60 },
  80006: { as: "again", after: 60 },
  1200: { as: "again" },
  1: { as: "again" },
  2: { as: "again" },
}
