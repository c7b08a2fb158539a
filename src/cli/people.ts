import { connect } from "./context.ts"
import { asJson, colors, inLine, printMore, table } from "./output.ts"

/** What lists of conversations and people take. */
export interface ListOptions {
  waiting?: boolean
  channel?: string
  tag?: string
  people?: boolean
  limit: string
  cursor?: string
  json?: boolean
}

/** Everybody who ever spoke. */
export async function listPeople(text: string | undefined, options: ListOptions): Promise<void> {
  const found = await connect().people({
    limit: options.limit,
    ...(options.cursor ? { cursor: options.cursor } : {}),
    ...(text ? { text } : {}),
    ...(options.channel ? { channel: options.channel } : {}),
    ...(options.tag ? { tag: options.tag } : {}),
  })
  if (asJson(options, found)) return
  table(
    [
      "who",
      "handle",
      "channel",
      { name: "provider's id", whole: true },
      "tags",
      "contact",
      { name: "conversation", spare: true },
    ],
    found.items.map((item) => [
      inLine(item.name ?? item.address, 30),
      item.handle ? `@${item.handle}` : "",
      item.channel,
      item.address,
      inLine(item.tags.join(", "), 30),
      colors.dim(item.contact),
      item.conversation ? colors.dim(item.conversation) : colors.dim("in groups only"),
    ]),
    (text ?? options.tag) ? "Nobody fits." : "Nobody has spoken yet.",
  )
  printMore(found)
}
