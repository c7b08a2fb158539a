import type { Logger } from "pino"
import type { TurnResult } from "../../store/turns.ts"
import type { HandlerError } from "../handlers/handler.ts"
import { shorten } from "../../core/message/graphemes.ts"
import type { InterviewNote } from "./interviewTurn.ts"

/** Failures that are told one by one in a minute; what comes on top is counted. */
const mostAMinute = 30

/** Characters of what a handler threw that stand in the log. */
const longestMessage = 500

/** Tells the service's log of handlers that failed, so that their author need not look at every passage. */
export class Failures {
  private minute = 0
  private told = 0
  private untold = 0

  constructor(private readonly log: Logger) {}

  take({ channel, turn, parked }: TurnResult): void {
    const { handler, route } = turn
    this.takeInterview(turn)
    const error = turn.error as HandlerError | undefined
    // A fault of the service's own has been told as such.
    if (!error || !handler) return
    const minute = Math.floor(performance.now() / 60_000)
    if (minute !== this.minute) {
      if (this.untold > 0) this.log.warn(`${this.untold} more handler failures were only counted`)
      Object.assign(this, { minute, told: 0, untold: 0 })
    }
    if (++this.told > mostAMinute) {
      this.untold++
      return
    }
    const what = parked ? "is parked: wobbet parked list" : "is tried again"
    this.log.warn(
      { channel, message: turn.messages[0], route, ...placeIn(error.stack) },
      `the handler "${handler}" failed: ${error.message.slice(0, longestMessage).replaceAll("\n", " ⏎ ")}; the message ${what}`,
    )
  }

  /** Tells of interviews that no longer fit their handlers, and of those that do something else each time. */
  private takeInterview({ handler, interview, messages }: TurnResult["turn"]): void {
    const { id, did, why, differs, unsteady } = (interview ?? {}) as Partial<InterviewNote>
    const about = { interview: id, message: messages[0] }
    if (differs)
      this.log.warn(
        about,
        `the handler "${handler}" has changed, and an interview no longer fits it: ${parting(differs)}; it has ended`,
      )
    if (did === "too long") this.log.warn(about, `an interview of the handler "${handler}" has ended: ${why}`)
    if (unsteady)
      this.log.warn(
        about,
        `the interview "${handler}" does not do the same when it is run again: ${parting(unsteady)}. What changes from run to run belongs in once.`,
      )
  }
}

/** Where two runs of an interview part, for people. */
function parting({ n, was, is, line }: { n: number; was: string; is: string; line?: string }): string {
  return `step ${n} was ${shorten(was, 200)}, and now is ${shorten(is, 200)}${line ? ` (${line})` : ""}`
}

/** The first place of a stack: its author's own file and line. The whole of it stands in the passage. */
function placeIn(stack: string | undefined): { at?: string } {
  // From a boundary on: what a handler throws may be a million letters without one.
  const place = /(?<![\w./-])[\w./-]+\.[mc]?[tj]s:\d+:\d+/.exec((stack ?? "").slice(0, 10_000))?.[0]
  return place ? { at: place } : {}
}
