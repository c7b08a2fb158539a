import type { Body, Refusal, Shown } from "../shared/standin.ts"

type Refuse = (error: string) => Refusal

/** Whether the provider would take a post: its text and every limit of its layout. */
export function checkPost(body: Body, refuse: Refuse): void {
  const { text, blocks } = body
  const laidOut = Array.isArray(blocks) && blocks.length > 0
  if ((typeof text !== "string" || text.trim() === "") && !laidOut) throw refuse("no_text")
  if (typeof text === "string" && text.length > 40_000) throw refuse("msg_too_long")
  if (typeof text === "string") checkText(text, refuse)
  if (blocks === undefined) return
  if (!Array.isArray(blocks) || blocks.length > 50) throw refuse("invalid_blocks")
  for (const block of blocks as Body[]) checkBlock(block, refuse)
}

/** What stands in angle brackets must be a mention or a link. */
function checkText(text: string, refuse: Refuse): void {
  if (!text.isWellFormed()) throw refuse("invalid_text")
  for (const match of text.matchAll(/<([^>]*)>?/g))
    if (!match[0].endsWith(">") || !/^([@#!]|https?:\/\/|mailto:|tel:)\S/.test(match[1]!)) throw refuse("invalid_text")
  if (/&(?!amp;|lt;|gt;)/.test(text)) throw refuse("invalid_text")
}

function plain(value: unknown, most: number, refuse: Refuse): void {
  const { type, text } = (value ?? {}) as { type?: string; text?: string }
  if (type !== "plain_text" || typeof text !== "string" || text.trim() === "" || text.length > most)
    throw refuse("invalid_blocks")
}

function checkBlock(block: Body, refuse: Refuse): void {
  const bad = () => refuse("invalid_blocks")
  switch (block.type) {
    case "section": {
      const { type, text } = (block.text ?? {}) as { type?: string; text?: string }
      if (type !== "mrkdwn" || typeof text !== "string" || text.trim() === "" || text.length > 3000) throw bad()
      checkText(text, refuse)
      if (block.accessory) checkImage(block.accessory as Body, bad)
      return
    }
    case "image":
      return checkImage(block, bad)
    case "actions": {
      const elements = block.elements as Body[] | undefined
      if (!elements || elements.length < 1 || elements.length > 25) throw bad()
      const ids = elements.map((element) => element.action_id)
      if (new Set(ids).size < ids.length) throw bad()
      for (const element of elements) {
        if (typeof element.action_id !== "string" || element.action_id.length > 255) throw bad()
        if (element.type === "button") {
          plain(element.text, 75, refuse)
          if (element.value !== undefined && (typeof element.value !== "string" || element.value.length > 2000))
            throw bad()
          if (
            element.url !== undefined &&
            (!/^https?:\/\//.test(String(element.url)) || String(element.url).length > 3000)
          )
            throw bad()
        } else if (element.type === "static_select") {
          plain(element.placeholder, 150, refuse)
          const options = element.options as { text: unknown; value: string }[]
          if (!Array.isArray(options) || options.length < 1 || options.length > 100) throw bad()
          for (const option of options) {
            plain(option.text, 75, refuse)
            if (typeof option.value !== "string" || option.value.length < 1 || option.value.length > 150) throw bad()
          }
        } else throw bad()
      }
      return
    }
    default:
      throw bad()
  }
}

function checkImage(image: Body, bad: () => Refusal): void {
  if (!/^https?:\/\/\S+$/.test(String(image.image_url)) || String(image.image_url).length > 3000) throw bad()
  if (typeof image.alt_text !== "string" || image.alt_text === "" || image.alt_text.length > 2000) throw bad()
}

function unescape(text: string): string {
  return text
    .replace(/<([^>|]+)\|([^>]+)>/g, "$2 ($1)")
    .replace(/<([^>]+)>/g, "$1")
    .replaceAll("&lt;", "<")
    .replaceAll("&gt;", ">")
    .replaceAll("&amp;", "&")
}

/** What people see of a post. A button's id is its action and its value. */
export function shownOf(body: Body): Pick<Shown, "text"> & Partial<Shown> {
  const blocks = (body.blocks as Body[] | undefined) ?? []
  const sections = blocks
    .filter((block) => block.type === "section")
    .map((block) => (block.text as { text: string }).text)
  const elements = blocks.filter((block) => block.type === "actions").flatMap((block) => block.elements as Body[])
  const buttons = elements.flatMap((element) =>
    element.type === "static_select"
      ? (element.options as { text: { text: string }; value: string }[]).map(({ text, value }) => ({
          id: `${String(element.action_id)} ${value}`,
          label: text.text,
        }))
      : element.value === undefined
        ? []
        : [
            {
              id: `${String(element.action_id)} ${String(element.value)}`,
              label: (element.text as { text: string }).text,
            },
          ],
  )
  const links = elements
    .filter((element) => element.url)
    .map((element) => `[${(element.text as { text: string }).text}: ${String(element.url)}]`)
  const image = blocks
    .map((block) => (block.type === "image" ? block : (block.accessory as Body | undefined)))
    .find(Boolean)
  const words = sections.length > 0 ? sections.join("\n") : String(body.text ?? "")
  return {
    text: [unescape(words), ...links].join("\n"),
    ...(buttons.length > 0 ? { buttons } : {}),
    ...(image ? { picture: String(image.image_url) } : {}),
  }
}
