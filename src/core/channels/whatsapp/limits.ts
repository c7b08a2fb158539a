import type { Abilities, Pace } from "../kind.ts"

/** The numbers of the Cloud API's public documentation that rendering obeys; UTF-16 units unless said otherwise. */
export const limits = {
  text: 4096,
  caption: 1024,
  /** Body of a message with buttons. */
  buttonBody: 1024,
  buttons: 3,
  buttonTitle: 20,
  buttonId: 256,
  listBody: 4096,
  listButton: 20,
  rows: 10,
  rowTitle: 24,
  rowDescription: 72,
  rowId: 200,
  linkTitle: 20,
} as const

export const abilities: Abilities = {
  textLength: limits.text,
  captionLength: limits.caption,
  buttons: limits.rows,
  buttonIdLength: limits.rowId,
  buttonLabelLength: limits.rowTitle,
  media: ["image", "audio", "voice", "video", "file", "sticker"],
  markup: "its own light markup",
  tellsDelivery: true,
  settlesDoubt: 10,
  window: 24,
  parts: {
    text: { how: "native", as: "4096 characters a message, longer ones in several" },
    choices: { how: "native", as: "up to 3 as buttons, up to 10 as a list, more as a numbered list" },
    media: { how: "native", as: "caption up to 1024; sound and stickers carry none, so it is said apart" },
    cards: { how: "simpler", as: "picture with buttons beneath, one message a card" },
    location: { how: "native", as: "with its name" },
    contact: { how: "native", as: "a contact card" },
    template: { how: "native", as: "by name, language and parameters" },
    reaction: { how: "native", as: "one emoji" },
    typing: { how: "native", as: "with the mark that the person's message was read" },
    amend: { how: "words", as: "sent again: what was sent cannot be changed" },
    remove: { how: "left out", as: "what was sent cannot be taken back" },
  },
}

/** 80 a second by default; to one person about one in six seconds, with bursts borrowed against later. */
export const pace: Pace = {
  perSecond: 80,
  perPlace: { count: 10, seconds: 60 },
  perGroup: { count: 10, seconds: 60 },
}
