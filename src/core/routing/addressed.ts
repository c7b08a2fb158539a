import type { Message } from "../message/message.ts"
import { isPlace } from "./checks.ts"
import type { Finding } from "./finding.ts"
import { depends, met, missed } from "./finding.ts"
import { list } from "./parts.ts"
import type { Situation } from "./situation.ts"

/** When a bot speaks in a group: always, when it is addressed, or never. */
export type GroupRule = "always" | "addressed" | "never"

/** What holds in groups, and what differs on some channels and in some places, which are named as conditions name them. */
export interface GroupRules {
  otherwise: GroupRule
  channels?: { [key: string]: GroupRule }
  places?: { [place: string]: GroupRule }
}

/** What a bot serves; all else it answers nothing. */
export interface Only {
  places?: string | string[]
  channels?: string | string[]
}

/** Whether a bot may speak where something was said, and why not. A broadcast channel is no group. */
export function maySpeak(groups: GroupRules, situation: Situation): Finding {
  const { message, facts, supposed } = situation
  if (message.place.kind !== "group") return met("it is no group")
  switch (ruleFor(groups, situation)) {
    case "always":
      return met("the bot speaks in this group")
    case "never":
      return missed("the bot does not speak in this group (groups: never)")
    case "addressed": {
      const how = howAddressed(message) ?? (facts?.answersBot ? "it answers a message of the bot" : undefined)
      if (how !== undefined) return met(how)
      if (supposed && facts?.answersBot === undefined)
        return depends("in a group, it depends on whether the bot is addressed")
      return missed("nobody addressed the bot: in a group it speaks when mentioned, given a command or answered")
    }
  }
}

function ruleFor({ otherwise, channels, places }: GroupRules, { message, channel, facts }: Situation): GroupRule {
  const place = Object.entries(places ?? {}).find(([wanted]) => isPlace(wanted, message, facts?.placeTags))
  if (place) return place[1]
  const key = channel?.key ?? ""
  return channels && Object.hasOwn(channels, key) ? channels[key]! : otherwise
}

/** In a group that is only supposed, nobody says whether the bot is addressed; where a place is known, nobody has. */
export function speakingFact({ place }: Message): { answersBot?: boolean } {
  return place.kind === "group" && place.address === "" ? {} : { answersBot: false }
}

/** What in a message itself addresses the bot. */
function howAddressed(message: Message): string | undefined {
  if (message.mentionsBot) return "the bot is mentioned"
  if (message.command) return "a command is given"
  if (message.choice) return "an option of the bot is chosen"
  if (message.form) return "a form of the bot is filled in"
  return undefined
}

/** Why a bot answers nothing here at all; undefined where it serves the place. */
export function notServed(only: Only | undefined, { message, channel, facts }: Situation): string | undefined {
  if (!only) return undefined
  const channels = list(only.channels)
  if (channels.length > 0 && channel && !channels.includes(channel.key))
    return `this bot serves only ${channels.join(", ")}, not ${channel.key}`
  const places = list(only.places)
  if (places.length === 0 || places.some((wanted) => isPlace(wanted, message, facts?.placeTags))) return undefined
  return `this bot serves only ${places.join(", ")}, not ${message.place.title ?? message.place.address}`
}
