import { readAnswer } from "../graphErrors.ts"
import { isObject, listAt, textAt } from "../../message/json.ts"
import type { Presenting } from "../presence.ts"
import { graph } from "./calls.ts"

/** The greeting and the command list, as the page's messaging profile has them. */
export const presenting: Presenting = {
  ask: () => [graph("messenger_profile", "GET", ["me/messenger_profile?fields=greeting,commands"])],
  read([answer]) {
    const body = answer && "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined
    if (!body) return undefined
    const [data] = listAt(body, "data")
    const own = isObject(data) ? data : {}
    const usual = (list: unknown[]) =>
      list.filter(isObject).find((one) => one.locale === "default") ?? list.filter(isObject)[0]
    const commands = usual(listAt(own, "commands"))
    return {
      description: textAt(usual(listAt(own, "greeting")), "text") ?? "",
      commands: listAt(commands, "commands").flatMap((one) =>
        isObject(one) ? [{ command: textAt(one, "name") ?? "", says: textAt(one, "description") ?? "" }] : [],
      ),
    }
  },
  set(wanted, fields) {
    const commands = wanted.commands?.map(({ command, says }) => ({ name: command, description: says }))
    const profile = {
      ...(fields.includes("description") ? { greeting: [{ locale: "default", text: wanted.description }] } : {}),
      ...(fields.includes("commands") ? { commands: [{ locale: "default", commands }] } : {}),
    }
    return Object.keys(profile).length > 0
      ? [graph("messenger_profile", "POST", ["me/messenger_profile"], profile)]
      : []
  },
  longest: { description: 160, says: 64 },
  byHand: {
    name: "in the page's own settings",
    about: "in the page's own settings",
    picture: "in the page's own settings",
  },
}
