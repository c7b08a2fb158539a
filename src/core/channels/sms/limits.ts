import { carefulPace, plainWords, shownAsWords } from "../../gateway/shown.ts"
import type { Abilities, Pace } from "../kind.ts"

export const abilities: Abilities = {
  ...plainWords,
  media: ["image"],
  tellsDelivery: true,
  settlesDoubt: 10,
  obeysStopWords: true,
  parts: {
    text: {
      how: "native",
      as: "up to 1600 characters a message, longer ones in several; formatting is written as plain words",
    },
    media: { how: "simpler", as: "where the gateway takes media; else as a link" },
    ...shownAsWords,
  },
}

export const pace: Pace = carefulPace
