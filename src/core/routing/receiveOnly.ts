import type { Bot, Fault } from "./bot.ts"
import type { Condition } from "./condition.ts"
import type { HandlerName } from "./handlerName.ts"

/** A channel on which nothing can be said, and why. */
export interface SilentChannel {
  key: string
  kind: string
  why: string
}

/** Routes that surely answer, on channels where nothing can be said: each a fault of the route. */
export function answersNowhere(bot: Bot, channels: SilentChannel[]): Fault[] {
  const routes = bot.routes.filter(({ handler }) => answers(handler))
  return channels.flatMap((channel) =>
    routes
      .filter(({ when }) => mayMeet(when, channel))
      .map(({ name }) => ({
        file: "bot.yaml",
        says: `the route "${name}" answers on the channel "${channel.key}", where nothing can be said: ${channel.why}`,
        remedy: `Keep it from there with not: { channel: ${channel.key} }, or give the channel's profile an outbound.`,
      })),
  )
}

/** A text is always said; what a handler's code does is known when it runs. */
function answers(handler: HandlerName): boolean {
  return typeof handler === "object" && "text" in handler
}

/** Whether a condition may be met on a channel, whatever is said there. */
function mayMeet(condition: Condition, channel: SilentChannel): boolean {
  const { channel: keys, kind, any, all, not } = condition
  if (keys !== undefined && ![keys].flat().includes(channel.key)) return false
  if (kind !== undefined && ![kind].flat().includes(channel.kind)) return false
  if (any && !any.some((one) => mayMeet(one, channel))) return false
  if (all && !all.every((one) => mayMeet(one, channel))) return false
  return not === undefined || !surelyMet(not, channel)
}

/** Whether a condition says nothing but which channel, and that it is this one. */
function surelyMet(condition: Condition, channel: SilentChannel): boolean {
  return Object.entries(condition).every(([name, value]) => {
    if (name === "channel") return [value as string | string[]].flat().includes(channel.key)
    return name === "kind" && [value as string | string[]].flat().includes(channel.kind)
  })
}
