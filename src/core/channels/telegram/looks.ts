import type { OutgoingCall } from "../call.ts"
import type { Look } from "../looks.ts"
import { contentOf, fieldsOf, listOf, plain, readTags, textOf } from "../looks.ts"

export function looks(call: OutgoingCall): Look {
  const content = contentOf(call)
  const rows = fieldsOf(content.reply_markup).inline_keyboard
  const buttons = (Array.isArray(rows) ? rows.flat() : []).map(fieldsOf)
  const options = buttons.map((button) => ({
    label: textOf(button.text),
    as: button.url ? ("link" as const) : ("button" as const),
  }))
  const shown: Look = { words: readTags(textOf(content.text) || textOf(content.caption)) }
  if (options.length > 0) shown.options = options
  const photo = textOf(content.photo)
  if (/^https?:/.test(photo)) shown.picture = photo
  switch (call.name) {
    case "sendMediaGroup":
      shown.beside = listOf(content.media).map((piece): Look => {
        const media = textOf(piece.media)
        const words = readTags(textOf(piece.caption))
        return piece.type === "photo" && /^https?:/.test(media)
          ? { words, picture: media }
          : { words, with: textOf(piece.type) }
      })
      break
    case "sendLocation":
      shown.with = `map ${String(content.latitude)}, ${String(content.longitude)}`
      break
    case "sendContact":
      shown.words = plain(`${textOf(content.first_name)} ${textOf(content.phone_number)}`)
      shown.with = "contact card"
      break
    case "sendChatAction":
      shown.with = "typing …"
      break
    case "setMessageReaction":
      shown.with = `reacts ${listOf(content.reaction)
        .map((one) => textOf(one.emoji))
        .join(" ")}`
      break
    case "createForumTopic":
      shown.words = plain(textOf(content.name))
      shown.with = "opens a topic"
      break
    case "deleteMessage":
      shown.with = "the message is taken back"
      break
    default:
      if (!shown.picture && call.name.startsWith("send") && call.name !== "sendMessage")
        shown.with = call.name.slice(4).toLowerCase()
      else if (call.name.startsWith("edit")) shown.with = "changes the message"
  }
  return shown
}
