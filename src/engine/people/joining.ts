import { randomInt } from "node:crypto"
import { joinCodeIn, newJoinCode } from "../../core/message/joinCode.ts"
import type { Doer } from "../../store/access.ts"
import { record } from "../../store/access.ts"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import { keepJoinCode, useJoinCode } from "../../store/joinCodes.ts"
import type { PendingMessage } from "../../store/lines.ts"
import type { Seal } from "../seal.ts"

/** Joins people by a code that is made for them on one channel and said by them on another. */
export class Joining {
  constructor(private readonly parts: { database: Database; bell: Bell; seal: Seal }) {}

  /** Gives undefined where there is no such person. */
  async code(contact: string, by: Doer): Promise<{ code: string; until: Date } | undefined> {
    const { database, seal } = this.parts
    const code = newJoinCode((below) => randomInt(below))
    const until = await keepJoinCode(database, { mark: seal.mark("join code", code), contact, by: by.name })
    if (until) await record(database, by, "join code made", { contact })
    return until && { code, until }
  }

  /** Whether a message is the code of somebody, who is joined with who says it. */
  async heard({ id, message, contact }: PendingMessage, channel: string): Promise<boolean> {
    const code = message.event === "text" && message.text !== undefined ? joinCodeIn(message.text) : undefined
    if (code === undefined || contact === null) return false
    const { database, bell, seal } = this.parts
    const used = await useJoinCode(database, { mark: seal.mark("join code", code), contact, message: id })
    if (!used) return false
    if (used.joined) {
      const detail = { contact: used.contact, other: contact, channel, code: "said by the person" }
      await record(database, { name: used.by }, "people joined", detail)
      await bell.ringHereFirst("people")
    }
    return true
  }
}
