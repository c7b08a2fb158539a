import type { Alarm, Channel } from "../channels/kind.ts"
import type { Source } from "./fields.ts"
import { allHold, at, fillTemplate, textAt, wordAt } from "./fields.ts"
import type { Profile } from "./profile.ts"
import { profileOf } from "./shipped.ts"

/** What a state means: an alarm where nothing can be sent with it, nothing where all is well. */
export interface StateMeaning {
  state: string
  alarm?: Alarm
}

/** What a gateway's word for the account's state means; undefined for a word the profile does not name. */
export function meaningOfState(word: string, why: string | undefined, channel: Channel): StateMeaning | undefined {
  const { state } = profileOf(channel)
  if (!state) return undefined
  if (state.good.includes(word)) return { state: word }
  const bad = Object.hasOwn(state.bad, word) ? state.bad[word] : undefined
  if (bad === undefined) return undefined
  return {
    state: word,
    alarm: {
      says: `the gateway says the account is "${word}": ${bad}${why ? ` (${why})` : ""}`,
      remedy: remedyOf(state, channel),
      lockedOut: true,
      forState: true,
    },
  }
}

/** Where the account is linked again, with the channel's settings in it. */
export function remedyOf(state: NonNullable<Profile["state"]>, channel: Channel): string {
  return fillTemplate(state.remedy, channel.settings)
}

/** The state that a call tells of, where it is such a call. */
export function stateTold(source: Source, channel: Channel): StateMeaning | undefined {
  const event = profileOf(channel).state?.event
  if (!event) return undefined
  const { settings } = channel
  if (event.when?.some((where) => at(source, where, settings) === undefined)) return undefined
  if (!allHold(source, event.only, settings)) return undefined
  const word = wordAt(source, event.state, settings)
  return word === undefined ? undefined : meaningOfState(word, textAt(source, event.why, settings), channel)
}
