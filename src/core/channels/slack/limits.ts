import type { Abilities, Pace } from "../kind.ts"

/** The numbers of the Web API's public documentation that rendering obeys; UTF-16 units. */
export const limits = {
  /** Best for a message; the provider itself cuts at 40,000. */
  text: 4000,
  section: 3000,
  elements: 25,
  buttonText: 75,
  buttonValue: 2000,
  selectOptions: 100,
  optionText: 75,
  optionValue: 150,
  url: 3000,
  alt: 2000,
  /** Posts to one response_url. */
  responses: 5,
} as const

export const abilities: Abilities = {
  textLength: limits.text,
  captionLength: limits.section,
  buttons: limits.selectOptions,
  buttonIdLength: limits.optionValue,
  buttonLabelLength: limits.buttonText,
  media: ["image", "audio", "voice", "video", "file", "sticker"],
  markup: "its own light markup",
  tellsDelivery: false,
  settlesDoubt: 6,
  amendsWhole: true,
  parts: {
    text: { how: "native", as: "4000 characters a message, longer ones in several" },
    choices: { how: "native", as: "up to 25 as buttons, up to 100 as a menu, more as a numbered list" },
    media: { how: "native", as: "pictures from an address in the message, other addresses as links; data is uploaded" },
    cards: { how: "simpler", as: "words with a picture beside and buttons beneath, one message a card" },
    location: { how: "words", as: "its name, its coordinates and a link to a map" },
    contact: { how: "words", as: "name and number" },
    template: { how: "words", as: "its text with the parameters filled in" },
    reaction: { how: "native", as: "where the emoji has a name there" },
    typing: { how: "left out", as: "bots cannot show it" },
    amend: { how: "native", as: "words and buttons of our own messages" },
    remove: { how: "native", as: "our own messages" },
  },
}

/** About one message a second in a channel. */
export const pace: Pace = {
  perSecond: 20,
  perPlace: { count: 3, seconds: 3 },
  perGroup: { count: 20, seconds: 20 },
}

/** Without these, something a bot needs stays silent. */
export const wantedScopes = ["chat:write", "im:history", "users:read"]
export const usefulScopes = [
  "app_mentions:read",
  "channels:history",
  "commands",
  "files:read",
  "files:write",
  "reactions:read",
]
export const wantedEvents = [
  "message.im",
  "message.channels",
  "app_mention",
  "reaction_added",
  "tokens_revoked",
  "app_uninstalled",
]
