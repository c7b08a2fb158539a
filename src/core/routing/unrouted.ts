import type { Message } from "../message/message.ts"
import type { HandlerName } from "./handlerName.ts"
import { speaks } from "./checks.ts"
import type { PlaceKind } from "./condition.ts"
import { list } from "./parts.ts"

/** Who answers what no route takes: one handler, or the first of several whose place and language fit. */
export type Unrouted = HandlerName | UnroutedCase[]

export interface UnroutedCase {
  place?: PlaceKind | PlaceKind[]
  language?: string | string[]
  handler: HandlerName
}

/** Under which it is counted what no route takes: no route is named so. */
export const unroutedName = ""

export function unroutedCases(unrouted: Unrouted | undefined): UnroutedCase[] {
  if (unrouted === undefined) return []
  return Array.isArray(unrouted) ? unrouted : [{ handler: unrouted }]
}

export function unroutedHandler(unrouted: Unrouted | undefined, { place, from }: Message): HandlerName | undefined {
  const spoken = from?.language ?? ""
  return unroutedCases(unrouted).find(
    (one) =>
      (one.place === undefined || list(one.place).includes(place.kind)) &&
      (one.language === undefined || list(one.language).some((code) => speaks(spoken, code))),
  )?.handler
}
