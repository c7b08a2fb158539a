import type { Said, Simulation } from "../simulate.ts"
import { atInlet, seconds, unsigned } from "../simulate.ts"

/** Updates as the Bot API's documentation shows them. */
export const simulate: Simulation = {
  person: "7700900998",
  call(said, _channel, now) {
    const from = { id: numberOf(said.from.address), is_bot: false, first_name: said.from.name, language_code: "en" }
    const chat = chatOf(said)
    const message = { message_id: said.number, date: seconds(now), chat, from, ...contentOf(said) }
    const update =
      said.press === undefined
        ? { update_id: said.number, message }
        : {
            update_id: said.number,
            callback_query: {
              id: String(said.number),
              from,
              message: { message_id: said.number, date: seconds(now), chat, text: "…" },
              data: said.press,
            },
          }
    return unsigned("json", JSON.stringify(update))
  },
  sign: (call, channel) =>
    atInlet(call, channel, { "x-telegram-bot-api-secret-token": channel.secrets.hookSecret ?? "" }),
}

function chatOf({ place, from }: Said): object {
  if (place === undefined) return { id: numberOf(from.address), type: "private", first_name: from.name }
  return { id: numberOf(place), type: place.startsWith("-100") ? "supergroup" : "group", title: "A simulated group" }
}

function contentOf({ text, media }: Said): object {
  if (media) {
    const caption = text === undefined ? {} : { caption: text }
    const file = {
      file_id: media.ref,
      file_unique_id: "u",
      file_size: media.size,
      mime_type: media.mime,
      file_name: media.name,
    }
    if (media.mime.startsWith("image/")) return { photo: [{ ...file, width: 640, height: 480 }], ...caption }
    if (media.mime.startsWith("audio/")) return { audio: { ...file, duration: 1 }, ...caption }
    if (media.mime.startsWith("video/")) return { video: { ...file, duration: 1, width: 640, height: 480 }, ...caption }
    return { document: file, ...caption }
  }
  const words = text ?? ""
  const command = /^\/\w+(@\w+)?/.exec(words)?.[0]
  return { text: words, ...(command ? { entities: [{ type: "bot_command", offset: 0, length: command.length }] } : {}) }
}

/** Ids are numbers here; what is none stands for one. */
function numberOf(address: string): number {
  return /^-?\d{1,15}$/.test(address) ? Number(address) : 7_700_900_998
}
