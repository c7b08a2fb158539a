import type { Database } from "./database.ts"
import { rows } from "./database.ts"

/** A turn whose handler runs, by the claim it is taken under. */
export interface UnderWay {
  conversation: string
  fence: number
  /** What it is about. */
  messages: string[]
  handler: string
  since: Date
}

export async function noteUnderWay(database: Database, turn: UnderWay): Promise<void> {
  await rows(
    database,
    `INSERT INTO under_way (conversation, fence, messages, handler, since) VALUES (?, ?, ?, ?, ?)
     ON CONFLICT (conversation) DO UPDATE SET fence = excluded.fence, messages = excluded.messages,
       handler = excluded.handler, since = excluded.since, xid = excluded.xid
     WHERE under_way.fence <= excluded.fence`,
    [turn.conversation, turn.fence, turn.messages, turn.handler, turn.since],
  )
}

export async function forgetUnderWay(database: Database, { conversation, fence }: UnderWay): Promise<void> {
  await rows(database, "DELETE FROM under_way WHERE conversation = ? AND fence = ?", [conversation, fence])
}
