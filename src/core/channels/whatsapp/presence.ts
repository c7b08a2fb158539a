import { readAnswer } from "../graphErrors.ts"
import { isObject, listAt, objectAt, textAt } from "../../message/json.ts"
import type { OutgoingCall } from "../call.ts"
import type { Presenting } from "../presence.ts"
import { bearer } from "./calls.ts"

function edge(name: string, method: OutgoingCall["method"], path: string, json?: object): OutgoingCall {
  return {
    name,
    method,
    address: [{ setting: "apiBase" }, "/", { setting: "apiVersion" }, "/", { setting: "phoneNumberId" }, path],
    headers: { authorization: bearer },
    ...(json ? { body: { json } } : {}),
    speaks: false,
  }
}

/** The business profile's texts and the command list, as the Cloud API sets them. */
export const presenting: Presenting = {
  ask: () => [
    edge("whatsapp_business_profile", "GET", "/whatsapp_business_profile?fields=about,description"),
    edge("conversational_automation", "GET", "?fields=conversational_automation"),
  ],
  read(answers) {
    const [profile, automation] = answers.map((answer) =>
      "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined,
    )
    if (!profile || !automation) return undefined
    const [first] = listAt(profile, "data")
    const own = isObject(first) ? first : undefined
    const commands = listAt(objectAt(automation, "conversational_automation"), "commands")
    return {
      about: textAt(own, "about") ?? "",
      description: textAt(own, "description") ?? "",
      commands: commands.flatMap((one) =>
        isObject(one)
          ? [{ command: textAt(one, "command_name") ?? "", says: textAt(one, "command_description") ?? "" }]
          : [],
      ),
    }
  },
  set(wanted, fields) {
    const texts = Object.fromEntries(
      fields.filter((field) => field === "about" || field === "description").map((field) => [field, wanted[field]]),
    )
    const commands = wanted.commands?.map(({ command, says }) => ({ command_name: command, command_description: says }))
    return [
      ...(Object.keys(texts).length > 0
        ? [
            edge("whatsapp_business_profile", "POST", "/whatsapp_business_profile", {
              messaging_product: "whatsapp",
              ...texts,
            }),
          ]
        : []),
      ...(fields.includes("commands")
        ? [edge("conversational_automation", "POST", "/conversational_automation", { commands })]
        : []),
    ]
  },
  longest: { about: 139, description: 512, says: 256 },
  byHand: {
    name: "as the number's display name, which the provider approves",
    picture: "in the business profile of the number",
  },
}
