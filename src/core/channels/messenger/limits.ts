import type { Abilities, Pace } from "../kind.ts"

/** The numbers of the Send API's public documentation that rendering obeys; UTF-16 units. */
export const limits = {
  text: 2000,
  quickReplies: 13,
  quickReplyTitle: 20,
  payload: 1000,
  buttonText: 640,
  buttons: 3,
  buttonTitle: 20,
  elements: 10,
  elementTitle: 80,
  elementSubtitle: 80,
} as const

export const abilities: Abilities = {
  textLength: limits.text,
  captionLength: 0,
  buttons: limits.quickReplies,
  buttonIdLength: limits.payload,
  buttonLabelLength: limits.quickReplyTitle,
  media: ["image", "audio", "video", "file"],
  markup: "none",
  tellsDelivery: true,
  settlesDoubt: 10,
  window: 24,
  parts: {
    text: {
      how: "native",
      as: "2000 characters a message, longer ones in several; formatting is written as plain words",
    },
    choices: { how: "native", as: "up to 13 as quick replies of up to 20 characters, others as a numbered list" },
    media: { how: "native", as: "one attachment a message; captions are said apart" },
    cards: { how: "native", as: "up to 10 side by side, title and subtitle up to 80, up to 3 buttons each" },
    location: { how: "words", as: "its name, its coordinates and a link to a map" },
    contact: { how: "words", as: "name and number" },
    template: { how: "words", as: "its text with the parameters filled in" },
    reaction: { how: "words", as: "the emoji as a message" },
    typing: { how: "native", as: "until something is said" },
    amend: { how: "words", as: "sent again: what was sent cannot be changed" },
    remove: { how: "left out", as: "what was sent cannot be taken back" },
  },
}

export const pace: Pace = {
  perSecond: 40,
  perPlace: { count: 20, seconds: 10 },
  perGroup: { count: 20, seconds: 10 },
}

/** What a page must subscribe to; echoes settle doubts. */
export const wantedFields = [
  "messages",
  "messaging_postbacks",
  "message_echoes",
  "message_deliveries",
  "message_reads",
  "message_reactions",
  "message_edits",
  "messaging_optins",
  "messaging_referrals",
  "messaging_handovers",
  "messaging_policy_enforcement",
  "standby",
]
