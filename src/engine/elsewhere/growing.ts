import type { AskedTurn } from "../../core/elsewhere/asked.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { Rendered } from "../../core/channels/kind.ts"
import { kindOf } from "../../core/channels/registry.ts"
import type { ModelOrder } from "../../core/model/order.ts"
import { allowed } from "../../core/model/said.ts"
import type { Database } from "../../store/database.ts"
import { sentAs } from "../../store/outbox.ts"
import { draftOfLease } from "../../store/waits.ts"
import { judged, perform } from "../calls/perform.ts"
import type { Values } from "../handlers/namedSecrets.ts"
import { masked } from "../handlers/namedSecrets.ts"
import type { Channels, KnownChannel } from "../channels.ts"

/** Milliseconds until "typing" is shown, and between two times: providers show it for five seconds. */
const typing = { after: 600, every: 4500 }
/** Milliseconds between two steps of growth, at least. */
const step = 1200

/** An answer that is shown while it comes. */
export interface Draft {
  grows(text: string): void
  /** Ends it; resolves when no step is under way any more. */
  end(): Promise<void>
}

/** Shows that somebody is about to answer: "typing", and answers that grow. None of it is on record, and all may be lost. */
export class Growing {
  constructor(private readonly parts: { database: Database; channels: Channels }) {}

  /** Shows "typing" where the channel has it, until the end is called. */
  typing(turn: AskedTurn): () => void {
    const known = this.parts.channels.get(turn.channel.key)
    if (!known || turn.trial) return () => undefined
    const { providerId } = turn.message
    const show = () => this.make(known, turn, { part: "typing", ...(providerId ? { to: providerId } : {}) })
    let timer = setTimeout(function again() {
      void show().catch(() => undefined)
      timer = setTimeout(again, typing.every)
    }, typing.after)
    return () => clearTimeout(timer)
  }

  /**
   * Shows what a model says in the message its turn said early, at the channel's pace.
   *
   * @param values secrets that no step may show, nor the beginning of one
   */
  draft(turn: AskedTurn, order: ModelOrder, lease: string, values: Values): Draft {
    const known = this.parts.channels.get(turn.channel.key)
    if (!known || turn.trial) return { grows: () => undefined, end: async () => undefined }
    const { pace } = kindOf(known.row.kind)
    const of = turn.conversation.place.kind === "group" ? pace.perGroup : pace.perPlace
    const pause = Math.max(step, (of.seconds / of.count) * 1200)
    // Twice its length is what a secret has in hexadecimal digits, its longest form.
    const behind = Math.max(0, ...Object.values(values).map((secret) => secret.length * 2))
    let [text, shown, over] = ["", "", false]
    let next = performance.now()
    let under: Promise<void> | undefined
    let id: string | undefined
    const grow = async () => {
      const now = shownPart(masked(text.slice(0, Math.max(0, text.length - behind)), values, new Set()), order)
      if (now === undefined || now === shown) return
      if (id === undefined) {
        const message = await draftOfLease(this.parts.database, lease)
        const sent = message === undefined ? undefined : await sentAs(this.parts.database, message)
        if (sent === undefined || sent === "on its way") return
        id = sent
      }
      if (over) return
      const wait = await this.make(known, turn, { part: "amend", to: id, text: `${now} …` })
      shown = now
      next = performance.now() + Math.max(pause, wait)
    }
    return {
      grows(given) {
        text = given
        if (over || under || performance.now() < next) return
        next = performance.now() + pause
        under = grow()
          .catch(() => undefined)
          .finally(() => (under = undefined))
      },
      async end() {
        over = true
        await under
      },
    }
  }

  /** Makes the first call of a part. Gives the milliseconds that the provider wants to be left alone for. */
  private async make(known: KnownChannel, turn: AskedTurn, part: ReplyPart): Promise<number> {
    const { place } = turn.conversation
    const rendered: Rendered = kindOf(known.row.kind).render(part, place, known.channel)
    const [call] = rendered.calls
    if (!call || rendered.impossible || rendered.leftOut) return 0
    const outcome = judged(call, await perform(call, known.channel, place.address), known.channel)
    return outcome.outcome === "again" ? (outcome.after ?? 5) * 1000 : 0
  }
}

/** As much of an answer as may be shown before it is whole: words that have ended, held to what the whole is held to. */
function shownPart(text: string, { length, links, instructions }: ModelOrder): string | undefined {
  const words = text.slice(0, Math.max(0, text.search(/\s\S*$/)))
  if (words.trim() === "") return undefined
  // Links are shown once the whole has been looked at.
  const said = allowed(words, { length, ...(links ? { linksIn: [] } : {}), heard: [instructions, words] })
  return "text" in said ? said.text : undefined
}
