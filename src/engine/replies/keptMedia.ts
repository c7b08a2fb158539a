import type { MediaItem, ReplyPart } from "../../core/message/reply.ts"
import type { Database } from "../../store/database.ts"
import { contentOf } from "../../store/media.ts"

const mark = "kept:"

/** Puts the content in place of `kept:<hash>`: what somebody sent can be sent on, on any channel. */
export async function withKept(database: Database, replies: ReplyPart[]): Promise<ReplyPart[]> {
  if (!replies.some((part) => part.part === "media" && [part, ...(part.with ?? [])].some(isKept))) return replies
  return Promise.all(
    replies.map(async (part) => {
      if (part.part !== "media") return part
      const { with: others = [], ...own } = part
      const first = await filled(database, own)
      const rest = await Promise.all(others.map((item) => filled(database, item)))
      return { ...first, part: "media" as const, ...(rest.length > 0 ? { with: rest } : {}) }
    }),
  )
}

function isKept(item: MediaItem): boolean {
  return item.ref?.startsWith(mark) === true
}

async function filled(database: Database, item: MediaItem): Promise<MediaItem> {
  if (!isKept(item)) return item
  const found = await contentOf(database, item.ref!.slice(mark.length))
  // Left as it is, the provider refuses it by that name, which is then on record.
  if (!found) return item
  const { ref: _ref, ...rest } = item
  return { ...rest, data: found.content.toString("base64"), mime: item.mime ?? found.mime }
}
