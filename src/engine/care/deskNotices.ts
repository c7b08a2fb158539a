import type { Logger } from "pino"
import { kindOf } from "../../core/channels/registry.ts"
import { choicesOffered } from "../../core/channels/options.ts"
import type { DeskPlace } from "../../core/routing/desk.ts"
import { waitsPart } from "../../core/routing/desk.ts"
import type { Bell } from "../../store/bell.ts"
import type { ConversationRow } from "../../store/conversations.ts"
import { newlyWaiting, noteTold } from "../../store/conversations.ts"
import type { Database } from "../../store/database.ts"
import type { MarkOf } from "../../store/directory.ts"
import { conversationsAt } from "../../store/directory.ts"
import { addToLine } from "../../store/outbox.ts"
import type { Channels } from "../channels.ts"
import { addressOn } from "../channels.ts"
import type { Releases } from "../handlers/releases.ts"
import type { DeskTurns } from "../people/deskTurn.ts"
import { waitingOf } from "../people/deskTurn.ts"
import { renderPart } from "../replies/renderPart.ts"

/** Conversations told of in one round: a flood of them is told of piece by piece. */
const most = 20

/** Tells the desk a bot names, once, of each conversation that begins to wait for a person. */
export class DeskNotices {
  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      releases: Releases
      bell: Bell
      log: Logger
      desk: DeskTurns
      markOf: MarkOf
    },
  ) {}

  async look(): Promise<void> {
    const { database, releases, bell, log } = this.parts
    let told = false
    for (const { release, ...row } of await newlyWaiting(database, most)) {
      const desk = await releases.with(release, async (ready) => ready?.table.bot.desk)
      try {
        told = (await this.tell(desk, row)) || told
      } catch (error) {
        log.error({ err: error, conversation: row.id }, "the desk could not be told that somebody waits")
        await noteTold(database, row.id)
      }
    }
    if (told) bell.ring("sends")
  }

  /** The note and the message are one: the desk is told once, whatever process ends meanwhile. */
  private async tell(desk: DeskPlace | undefined, row: ConversationRow): Promise<boolean> {
    const { database, channels, markOf } = this.parts
    const known = desk && channels.get(desk.channel)
    if (desk && !known) throw new Error(`the desk's channel ${desk.channel} is not there`)
    if (!known) return noteTold(database, row.id).then(() => false)
    const address = addressOn(known, desk.place)
    const kind = kindOf(known.row.kind).placeKind?.(address) ?? ("direct" as const)
    const place = { address, kind }
    const [at] = await conversationsAt(database, [{ channel: desk.channel, place }], markOf)
    const [waiting] = await waitingOf(database, [row])
    const part = waitsPart(waiting!, this.parts.desk.link(row.id))
    const message = renderPart(part, place, known)
    return database.transaction(async (step) => {
      if (!(await noteTold(step, row.id))) return false
      const line = { conversation: at!, channel: desk.channel }
      await addToLine(step, line, [{ ...message, origin: "alert" }], undefined, choicesOffered(part))
      return true
    })
  }
}
