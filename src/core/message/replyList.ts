import type { ReplyPart } from "./reply.ts"

/** Replies as a handler may give them, one or several and as parts or plain texts, as a list of parts. */
export function replyList(replies: unknown): unknown[] {
  const list: unknown[] = replies === undefined || replies === null ? [] : Array.isArray(replies) ? replies : [replies]
  return list.map((reply) => (typeof reply === "string" ? ({ part: "text", text: reply } satisfies ReplyPart) : reply))
}
