import { graphRefusal } from "../shared/hub.ts"
import type { Body, Shown, Stage } from "../shared/standin.ts"
import type { World } from "./world.ts"

/** Whether the provider would take a message: every field, every limit. Throws its refusal otherwise. */
export function checkMessage(body: Body, stage: Stage, world: World): void {
  const bad = (what: string) => graphRefusal(400, 100, `Invalid parameter: ${what}`)
  if (body.messaging_product !== "whatsapp") throw bad("messaging_product must be whatsapp")
  const to = body.to
  if (typeof to !== "string" || !/^\+?\d{5,20}$/.test(to)) throw bad("to must be a phone number")
  if (!stage.people.has(to)) throw graphRefusal(400, 131026, "Message undeliverable")
  for (const key of Object.keys(body))
    if (!topKeys.has(key) && key !== body.type) throw bad(`Unexpected key "${key}" on param`)
  const mark = body.biz_opaque_callback_data
  if (mark !== undefined && (typeof mark !== "string" || mark.length > 512))
    throw bad("biz_opaque_callback_data is over 512")
  const context = body.context as Body | undefined
  if (context && typeof context.message_id !== "string") throw bad("context.message_id")
  const type = String(body.type)
  const content = body[type] as Body | undefined
  if (content === undefined) throw bad(`${type} is missing`)
  const free = type !== "template"
  if (free && Date.now() - (world.heard.get(to) ?? 0) > 24 * 3_600_000) {
    throw graphRefusal(400, 131047, "Re-engagement message", {
      error_data: {
        details: "Message failed to send because more than 24 hours have passed since the customer last replied.",
      },
    })
  }
  const check = checks[type]
  if (!check) throw graphRefusal(400, 131051, "Unsupported message type")
  check(content, bad, world)
}

const topKeys = new Set(["messaging_product", "recipient_type", "to", "type", "context", "biz_opaque_callback_data"])

type Check = (content: Body, bad: (what: string) => Error, world: World) => void

function words(value: unknown, most: number, name: string, bad: (what: string) => Error): string {
  if (typeof value !== "string" || value.trim() === "") throw bad(`${name} is required`)
  if (value.length > most) throw bad(`${name} is over ${most} characters`)
  return value
}

const mediaCheck =
  (type: string, caption: boolean): Check =>
  (content, bad, world) => {
    const { id, link } = content
    if ((id === undefined) === (link === undefined)) throw bad(`${type} needs an id or a link`)
    if (id !== undefined && !world.media.has(String(id)))
      throw graphRefusal(400, 131053, "Media upload error: no such media")
    if (link !== undefined && !/^https?:\/\/\S+$/.test(String(link))) throw bad(`${type}.link is no address`)
    if (content.caption !== undefined) {
      if (!caption) throw bad(`${type} takes no caption`)
      words(content.caption, 1024, "caption", bad)
    }
    if (content.filename !== undefined && type !== "document") throw bad(`${type} takes no filename`)
  }

const checks: { [type: string]: Check } = {
  text(content, bad) {
    words(content.body, 4096, "text.body", bad)
    if (content.preview_url !== undefined && typeof content.preview_url !== "boolean") throw bad("preview_url")
  },
  image: mediaCheck("image", true),
  video: mediaCheck("video", true),
  document: mediaCheck("document", true),
  audio: mediaCheck("audio", false),
  sticker: mediaCheck("sticker", false),
  location(content, bad) {
    if (typeof content.latitude !== "number" || typeof content.longitude !== "number") throw bad("location")
  },
  contacts(content, bad) {
    const list = content as unknown as Body[]
    if (!Array.isArray(list) || list.length === 0) throw bad("contacts")
    for (const one of list) {
      const name = one.name as Body | undefined
      words(name?.formatted_name, 1000, "contacts.name.formatted_name", bad)
      if (!["first_name", "last_name", "middle_name", "suffix", "prefix"].some((part) => name?.[part]))
        throw bad("contacts.name")
    }
  },
  reaction(content, bad) {
    words(content.message_id, 500, "reaction.message_id", bad)
    if (typeof content.emoji !== "string") throw bad("reaction.emoji")
  },
  template(content, _bad, world) {
    const name = String(content.name)
    const found = world.templates.get(name)
    const language = (content.language as Body | undefined)?.code
    if (!found || found.language !== language || found.status !== "APPROVED")
      throw graphRefusal(404, 132001, `Template name does not exist in the translation: ${name}`)
    const given = ((content.components as Body[] | undefined) ?? [])
      .filter((component) => component.type === "body")
      .flatMap((component) => component.parameters as unknown[]).length
    if (given !== found.parameters)
      throw graphRefusal(400, 132000, `Number of parameters does not match: ${given} against ${found.parameters}`)
  },
  interactive(content, bad) {
    const action = content.action as Body
    const body = (content.body as Body | undefined)?.text
    if (content.type === "button") {
      words(body, 1024, "interactive.body.text", bad)
      const buttons = (action.buttons as { type: string; reply: Body }[] | undefined) ?? []
      if (buttons.length < 1 || buttons.length > 3) throw bad("1 to 3 buttons")
      options(
        buttons.map((button) => button.reply),
        "title",
        20,
        256,
        bad,
      )
    } else if (content.type === "list") {
      words(body, 4096, "interactive.body.text", bad)
      if (content.header && (content.header as Body).type !== "text") throw bad("a list's header is text")
      words(action.button, 20, "action.button", bad)
      const sections = (action.sections as { title?: string; rows: Body[] }[] | undefined) ?? []
      const rows = sections.flatMap((section) => section.rows)
      if (rows.length < 1 || rows.length > 10 || sections.length > 10) throw bad("1 to 10 rows")
      if (sections.length > 1 && sections.some((section) => !section.title)) throw bad("sections need titles")
      options(rows, "title", 24, 200, bad)
      for (const row of rows) if (row.description !== undefined) words(row.description, 72, "row description", bad)
    } else if (content.type === "cta_url") {
      words(body, 1024, "interactive.body.text", bad)
      const parameters = action.parameters as Body
      words(parameters.display_text, 20, "display_text", bad)
      if (!/^https?:\/\/\S+$/.test(String(parameters.url))) throw bad("url")
    } else throw bad("interactive.type")
  },
}

function options(all: Body[], title: string, most: number, id: number, bad: (what: string) => Error): void {
  for (const one of all) {
    words(one[title], most, title, bad)
    words(one.id, id, "id", bad)
  }
  if (new Set(all.map((one) => one.id)).size < all.length) throw bad("Duplicated id")
  if (new Set(all.map((one) => one[title])).size < all.length) throw bad("Duplicated title")
}

/** What the person's phone shows of a message. */
export function shownOf(body: Body): Pick<Shown, "text"> & Partial<Shown> {
  const type = String(body.type)
  const content = body[type] as Body
  if (type === "text") return { text: String(content.body) }
  if (type === "interactive") {
    const action = content.action as Body
    const text = String((content.body as Body).text)
    if (content.type === "button") {
      const buttons = (action.buttons as { reply: { id: string; title: string } }[]).map(({ reply }) => ({
        id: reply.id,
        label: reply.title,
      }))
      const picture = ((content.header as Body | undefined)?.image as Body | undefined)?.link as string | undefined
      return { text, buttons, ...(picture ? { picture } : {}) }
    }
    if (content.type === "list") {
      const rows = (action.sections as { rows: { id: string; title: string; description?: string }[] }[]).flatMap(
        (section) => section.rows,
      )
      return { text, buttons: rows.map((row) => ({ id: row.id, label: row.description ?? row.title })) }
    }
    const { display_text, url } = action.parameters as { display_text: string; url: string }
    return { text: `${text}\n[${display_text}: ${url}]` }
  }
  if (type === "contacts") {
    const [one] = content as unknown as { name: { formatted_name: string }; phones?: { phone: string }[] }[]
    return { text: `${one!.name.formatted_name} ${one!.phones?.[0]?.phone ?? ""}` }
  }
  if (type === "location")
    return { text: `(map) ${String(content.name ?? "")} ${content.latitude}, ${content.longitude}` }
  if (type === "reaction") return { text: `(reacted ${String(content.emoji)})` }
  if (type === "template") {
    const parameters = ((content.components as Body[] | undefined) ?? []).flatMap(
      (component) => component.parameters as { text: string }[],
    )
    return { text: `(template ${String(content.name)}) ${parameters.map((parameter) => parameter.text).join(" · ")}` }
  }
  const picture = type === "image" && content.link ? { picture: String(content.link) } : {}
  return { text: String(content.caption ?? `(${type})`), ...picture }
}
