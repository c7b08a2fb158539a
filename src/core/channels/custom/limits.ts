import type { Abilities, Pace } from "../kind.ts"

/** What can be counted on wherever a gateway takes plain words. */
export const abilities: Abilities = {
  textLength: 1600,
  captionLength: 1600,
  buttons: 0,
  buttonIdLength: 0,
  buttonLabelLength: 0,
  media: [],
  markup: "none",
  tellsDelivery: false,
  parts: {
    text: { how: "native", as: "as long as the profile says, longer ones in several; formatting as plain words" },
    choices: { how: "words", as: "a numbered list; the number or the label coming back is the choice" },
    media: { how: "simpler", as: "where the profile says how; else as a link" },
    cards: { how: "words", as: "title, subtitle and a numbered list; the picture where the profile says how" },
    location: { how: "words", as: "its name, its coordinates and a link to a map" },
    contact: { how: "words", as: "name and number" },
    template: { how: "words", as: "its text with the parameters filled in" },
    reaction: { how: "words", as: "the emoji as a message" },
    typing: { how: "left out", as: "nothing is shown" },
    amend: { how: "words", as: "said anew: what was sent cannot be changed" },
    remove: { how: "left out", as: "what was sent cannot be taken back" },
  },
}

/** Gateways differ; a careful default that the settings perSecond, perDay and pauseBetween change. */
export const pace: Pace = {
  perSecond: 10,
  perPlace: { count: 10, seconds: 10 },
  perGroup: { count: 10, seconds: 10 },
}
