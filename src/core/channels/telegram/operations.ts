import type { Operation, Operations } from "../operations.ts"
import { callBelow } from "../operations.ts"

const read = (name: string, says: string, more: Partial<Operation> = {}): Operation => ({
  name,
  says,
  method: "GET",
  path: name,
  ...more,
})
const write = (name: string, says: string, fields: string[]): Operation => ({
  name,
  says,
  method: "POST",
  path: name,
  fields,
})

/** Methods of the Bot API, as its documentation names them; any other is called by its name, too. */
export const operations: Operations = {
  known: () => [
    read("getMe", "who the token belongs to", { word: "me" }),
    read("getWebhookInfo", "which address is on record, and its last failure", { word: "record" }),
    read("getChat", "a person, group or channel, with all its settings", { fields: ["chat_id"] }),
    read("getChatAdministrators", "who administers a group", { fields: ["chat_id"] }),
    read("getChatMember", "one member of a group, the bot among them", { fields: ["chat_id", "user_id"] }),
    read("getChatMemberCount", "how many are in a group", { fields: ["chat_id"] }),
    read("getMyCommands", "the command list people see", { fields: ["language_code"] }),
    read("getMyName", "the bot's name", { fields: ["language_code"] }),
    read("getMyDescription", "what an empty chat shows", { fields: ["language_code"] }),
    read("getMyShortDescription", "what its profile shows", { fields: ["language_code"] }),
    read("getMyDefaultAdministratorRights", "which rights it asks for in groups"),
    read("getUserProfilePhotos", "a person's pictures", { fields: ["user_id"] }),
    read("getFile", "where a file lies", { fields: ["file_id"] }),
    write("sendMessage", "a message, past the line and its order", ["chat_id", "text"]),
    write("sendChatAction", "shows that it writes", ["chat_id", "action"]),
    write("setMyCommands", "sets the command list", ["commands"]),
    write("leaveChat", "leaves a group", ["chat_id"]),
  ],
  instead: {
    groups:
      'The Bot API has no call that lists groups: those the bot has heard from are in "wobbet conversation list", and getChat shows one by its id.',
    status: "The Bot API does not tell what became of a message.",
  },
  call: (wanted, channel) =>
    callBelow(wanted, channel, { base: [{ setting: "apiBase" }, "/bot", { secret: "token" }], body: "json" }),
}
