import { carefulPace, plainWords, shownAsWords } from "../../gateway/shown.ts"
import type { Abilities, Pace } from "../kind.ts"

/** What can be counted on wherever a gateway takes plain words. */
export const abilities: Abilities = {
  ...plainWords,
  media: [],
  tellsDelivery: false,
  parts: {
    text: { how: "native", as: "as long as the profile says, longer ones in several; formatting as plain words" },
    media: { how: "simpler", as: "where the profile says how; else as a link" },
    ...shownAsWords,
  },
}

export const pace: Pace = carefulPace
