import type { Operation, Operations } from "../operations.ts"
import { callBelow, reads } from "../operations.ts"

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
    reads("getMe", "who the token belongs to", { word: "me" }),
    reads("getWebhookInfo", "which address is on record, and its last failure", { word: "record" }),
    reads("getChat", "a person, group or channel, with all its settings", { fields: ["chat_id"] }),
    reads("getChatAdministrators", "who administers a group", { fields: ["chat_id"] }),
    reads("getChatMember", "one member of a group, the bot among them", { fields: ["chat_id", "user_id"] }),
    reads("getChatMemberCount", "how many are in a group", { fields: ["chat_id"] }),
    reads("getMyCommands", "the command list people see", { fields: ["language_code"] }),
    reads("getMyName", "the bot's name", { fields: ["language_code"] }),
    reads("getMyDescription", "what an empty chat shows", { fields: ["language_code"] }),
    reads("getMyShortDescription", "what its profile shows", { fields: ["language_code"] }),
    reads("getMyDefaultAdministratorRights", "which rights it asks for in groups"),
    reads("getUserProfilePhotos", "a person's pictures", { fields: ["user_id"] }),
    reads("getFile", "where a file lies", { fields: ["file_id"] }),
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
