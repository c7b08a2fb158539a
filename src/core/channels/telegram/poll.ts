import type { Polling } from "../kind.ts"
import { idAt, listAt } from "../../message/json.ts"
import { call } from "./calls.ts"
import { judge, readAnswer } from "./judge.ts"
import { wantedUpdates } from "./limits.ts"
import { numeric } from "./render.ts"

/** Updates are confirmed by asking with a higher offset, so the offset is kept with the messages. */
export const polling: Polling = {
  ask: (_channel, offset, seconds) =>
    call(
      "getUpdates",
      { ...(offset ? { offset: numeric(offset) } : {}), limit: 100, timeout: seconds, allowed_updates: wantedUpdates },
      { speaks: false, timeout: (seconds + 15) * 1000 },
    ),
  read(answer) {
    if (!("failure" in answer) && answer.status === 409) return conflict(answer.body)
    const outcome = judge(call("getUpdates", {}, { speaks: false }), answer)
    if (outcome.outcome === "lockedOut" || outcome.outcome === "again") return { fault: outcome }
    if (outcome.outcome !== "accepted") return { fault: { outcome: "again", why: outcome.why } }
    const updates = "body" in answer ? listAt(readAnswer(answer.body), "result") : []
    const last = updates
      .map((update) => idAt(update, "update_id"))
      .filter((id) => /^\d+$/.test(id ?? ""))
      .at(-1)
    return {
      updates: updates.map((update) => JSON.stringify(update)),
      ...(last ? { next: (BigInt(last) + 1n).toString() } : {}),
    }
  },
}

function conflict(body: string): { conflict: string; remedy: string } {
  const says = String(readAnswer(body)?.description ?? "conflict")
  if (/webhook/i.test(says)) {
    return {
      conflict: `Telegram refuses polling while an address is on record (${says})`,
      remedy: "Connect the channel again: for a polling channel that takes the address away. Or set receive=webhook.",
    }
  }
  return {
    conflict: `another program polls with the same token (${says})`,
    remedy: "Stop the other program, or give each its own bot. Polling is tried again every half minute.",
  }
}
