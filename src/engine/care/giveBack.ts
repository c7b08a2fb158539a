import { record } from "../../store/access.ts"
import type { Bell } from "../../store/bell.ts"
import { answeredByHand, giveBack } from "../../store/conversations.ts"
import type { Database } from "../../store/database.ts"
import type { Releases } from "../handlers/releases.ts"

/** Conversations looked at in one round. */
const most = 1000

/** Lets the bot answer again where a person has, once nothing was said for as long as the bot names. */
export class GiveBack {
  constructor(private readonly parts: { database: Database; releases: Releases; bell: Bell }) {}

  async look(): Promise<void> {
    const { database, releases, bell } = this.parts
    for (const { id, release, silent } of await answeredByHand(database, most)) {
      const after = await releases.with(release, async (ready) => ready?.table.bot.giveBack)
      if (after === undefined || silent < after || !(await giveBack(database, id, silent))) continue
      await record(database, { name: "the bot" }, "conversation given back", { id, silent: Math.round(silent / 1000) })
      bell.ring("live")
    }
  }
}
