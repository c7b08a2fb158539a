import type { DeskPlace, DeskWish, Waiting } from "../../core/routing/desk.ts"
import { deskWish, givenBackPart, listParts, takenPart } from "../../core/routing/desk.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { record } from "../../store/access.ts"
import type { Bell } from "../../store/bell.ts"
import {
  conversationById,
  lastHeard,
  setAnsweredBy,
  takeConversation,
  waitingConversations,
} from "../../store/conversations.ts"
import type { ConversationRow } from "../../store/conversations.ts"
import type { Database } from "../../store/database.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"

/** Conversations that are listed. */
const most = 100

/** What is done at the desk: whoever is there sees who waits, takes a conversation by name, and gives it back. */
export class DeskTurns {
  constructor(private readonly parts: { database: Database; bell: Bell; publicUrl: () => string }) {}

  /** What is answered at the desk; nothing where this is not the desk, or not meant for it. */
  async heard(desk: DeskPlace | undefined, line: Line, { message }: PendingMessage): Promise<ReplyPart[] | undefined> {
    if (desk === undefined || line.channel !== desk.channel || line.place.address !== desk.place) return undefined
    const wish = deskWish(message, desk)
    if (wish === undefined) return undefined
    const { from } = message
    return this.done(wish, from?.name ?? from?.handle ?? from?.address ?? "somebody", line.channel)
  }

  /** Where a conversation is looked at. */
  link(conversation: string): string {
    return `${this.parts.publicUrl().replace(/\/$/, "")}/conversations/${conversation}`
  }

  private async done(wish: DeskWish, who: string, channel: string): Promise<ReplyPart[]> {
    const { database, bell } = this.parts
    if (wish.does === "list") {
      const all = await waitingConversations(database, most)
      const free = all.filter((one) => one.takenBy === null)
      return listParts(await waitingOf(database, free))
    }
    const { conversation } = wish
    const found = await conversationById(database, conversation)
    if (!found) return [{ part: "text", text: "That conversation is not there any more." }]
    const [waiting] = await waitingOf(database, [found])
    const doer = { name: `${who} (on ${channel})` }
    if (wish.does === "take") {
      const taker = await takeConversation(database, conversation, doer.name)
      const mine = taker === doer.name
      if (mine) await record(database, doer, "conversation taken", { id: conversation })
      bell.ring("live")
      return [takenPart(waiting!, mine ? who : (taker ?? "Somebody"), mine, this.link(conversation))]
    }
    if (found.answeredBy === "person") {
      await setAnsweredBy(database, conversation, "bot")
      await record(database, doer, "conversation given to", { id: conversation, answeredBy: "bot" })
      bell.ring("live")
    }
    return [givenBackPart(waiting!)]
  }
}

/** With what each of them said last. */
export async function waitingOf(database: Database, found: ConversationRow[]): Promise<Waiting[]> {
  const ids = found.map(({ id }) => id)
  const heard = await lastHeard(database, ids)
  return found.map(({ id, channel, title, address }) => {
    const words = heard.get(id)
    return { conversation: id, channel, name: title ?? address, ...(words ? { words } : {}) }
  })
}
