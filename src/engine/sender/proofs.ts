import type { Logger } from "pino"
import type { Alarm } from "../../core/channels/kind.ts"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { databaseFault } from "../../store/database.ts"
import { provenDoubts, settleParkedDoubts } from "../../store/statuses.ts"
import type { Channels } from "../channels.ts"
import type { Alerts } from "./alerts.ts"
import type { Sender } from "./sender.ts"

/** What providers tell on their own of what was sent, and of the channel itself. */
export class Proofs {
  constructor(
    private readonly parts: {
      database: Database
      channels: Channels
      sender: Sender | undefined
      alerts: Alerts
      bell: Bell
      log: Logger
    },
  ) {}

  /** What was parked as a doubt and has arrived after all needs nobody any more. */
  async proven(channel: string, proofs: { mark: string; providerId?: string }[]): Promise<void> {
    const { database, sender, bell, log } = this.parts
    try {
      const settled = await settleParkedDoubts(database, channel, proofs)
      for (const conversation of settled) sender?.lineGrew(conversation, channel)
      if (settled.length > 0) bell.ring("sends")
      bell.ring("live")
    } catch (error) {
      if (databaseFault(error) !== "away") log.error({ err: error }, "a doubt could not be settled")
    }
  }

  /** Settles what was proven and not settled, since whoever was to do so ended. */
  async lookAgain(): Promise<void> {
    for (const { channel, mark, providerId } of await provenDoubts(this.parts.database))
      await this.proven(channel, [{ mark, ...(providerId === null ? {} : { providerId }) }])
  }

  /** The provider says that the account works again. */
  async recovered(channel: string, says: string): Promise<void> {
    const { alerts, log } = this.parts
    await alerts
      .recovered(channel, says)
      .catch((error: unknown) => log.error({ err: error, channel }, `the channel could not be resumed: ${says}`))
  }

  /** The provider says that the channel needs a person. */
  async alarmed(channel: string, alarm: Alarm): Promise<void> {
    const { channels, alerts, log } = this.parts
    const { lockedOut, says, remedy } = alarm
    try {
      const known = channels.get(channel)
      if (lockedOut) await alerts.alarmed(channel, alarm)
      else if (known) await alerts.raise(known, `The channel ${channel}: ${says}. ${remedy}`)
    } catch (error) {
      log.error({ err: error, channel }, `an alarm could not be passed on: ${says}`)
    }
  }
}
