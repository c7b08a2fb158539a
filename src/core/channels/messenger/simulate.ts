import type { Said, Simulation } from "../simulate.ts"
import { hubSigned, unsigned } from "../simulate.ts"

/** Calls as the Messenger Platform's documentation shows them. */
export const simulate: Simulation = {
  person: "7700900000000001",
  call(said, { settings }, now) {
    const page = String(settings.pageId ?? "")
    const event = {
      sender: { id: said.from.address },
      recipient: { id: page },
      timestamp: now.getTime(),
      ...contentOf(said),
    }
    return unsigned(
      "json",
      JSON.stringify({ object: "page", entry: [{ id: page, time: now.getTime(), messaging: [event] }] }),
    )
  },
  sign: hubSigned,
}

function contentOf({ text, press, media, number }: Said): object {
  const mid = `m_simulated${number}`
  if (press !== undefined) return { postback: { mid, title: text ?? press, payload: press } }
  const words = text === undefined ? {} : { text }
  if (!media) return { message: { mid, ...words } }
  const sort = media.mime.split("/")[0]!
  const type = ["image", "audio", "video"].includes(sort) ? sort : "file"
  return { message: { mid, ...words, attachments: [{ type, payload: { url: media.ref } }] } }
}
