import { isObject, listAt, objectAt, textAt } from "../../message/json.ts"
import type { Presenting } from "../presence.ts"
import { call } from "./calls.ts"
import { readAnswer } from "./judge.ts"

const quiet = { speaks: false }

/** Name, texts and command list, as the Bot API sets them; the picture only a person can. */
export const presenting: Presenting = {
  ask: () => [
    call("getMyName", {}, quiet),
    call("getMyShortDescription", {}, quiet),
    call("getMyDescription", {}, quiet),
    call("getMyCommands", {}, quiet),
  ],
  read(answers) {
    const [name, about, description, commands] = answers.map((answer) =>
      "body" in answer && answer.status === 200 ? readAnswer(answer.body) : undefined,
    )
    if (!name || !about || !description || !commands) return undefined
    return {
      name: textAt(objectAt(name, "result"), "name") ?? "",
      about: textAt(objectAt(about, "result"), "short_description") ?? "",
      description: textAt(objectAt(description, "result"), "description") ?? "",
      commands: listAt(commands, "result").flatMap((one) =>
        isObject(one) ? [{ command: textAt(one, "command") ?? "", says: textAt(one, "description") ?? "" }] : [],
      ),
    }
  },
  set: (wanted, fields) =>
    fields.flatMap((field) => {
      if (field === "name") return [call("setMyName", { name: wanted.name }, quiet)]
      if (field === "about") return [call("setMyShortDescription", { short_description: wanted.about }, quiet)]
      if (field === "description") return [call("setMyDescription", { description: wanted.description }, quiet)]
      if (field !== "commands") return []
      const commands = wanted.commands!.map(({ command, says }) => ({ command, description: says }))
      return [call("setMyCommands", { commands }, quiet)]
    }),
  longest: { name: 64, about: 120, description: 512, says: 256 },
  byHand: { picture: "in the chat with the provider's own bot for bots: /setuserpic" },
}
