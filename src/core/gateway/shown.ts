import type { Abilities, Pace } from "../channels/kind.ts"

/** How the parts of a reply are shown wherever plain words are all there is; `text` and `media` differ by kind. */
export const shownAsWords: Omit<Abilities["parts"], "text" | "media"> = {
  choices: { how: "words", as: "a numbered list; the number or the label coming back is the choice" },
  cards: { how: "words", as: "title, subtitle and a numbered list; the picture where the gateway takes media" },
  location: { how: "words", as: "its name, its coordinates and a link to a map" },
  contact: { how: "words", as: "name and number" },
  template: { how: "words", as: "its text with the parameters filled in" },
  reaction: { how: "words", as: "the emoji as a message" },
  typing: { how: "left out", as: "nothing is shown" },
  amend: { how: "words", as: "sent again: what was sent cannot be changed" },
  remove: { how: "left out", as: "what was sent cannot be taken back" },
}

/** What no gateway has: buttons, and formatting. */
export const plainWords = {
  textLength: 1600,
  captionLength: 1600,
  buttons: 0,
  buttonIdLength: 0,
  buttonLabelLength: 0,
  markup: "none",
}

/** Gateways differ; a careful default that the settings perSecond, perDay and pauseBetween change. */
export const carefulPace: Pace = {
  perSecond: 10,
  perPlace: { count: 10, seconds: 10 },
  perGroup: { count: 10, seconds: 10 },
}
