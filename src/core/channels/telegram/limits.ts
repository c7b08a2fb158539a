import type { Abilities, Pace } from "../kind.ts"

/** The numbers of the Bot API's public documentation that rendering obeys. */
export const limits = {
  /** UTF-16 units after entities are parsed. */
  text: 4096,
  caption: 1024,
  /** Bytes of `callback_data`. */
  choiceId: 64,
  /** What a button shows; longer labels are cut on phones, so we cut them ourselves. */
  label: 64,
  buttonsInAll: 100,
  buttonsPerRow: 8,
  /** Pieces of one album. */
  album: 10,
  /** Characters of a topic's name. */
  topic: 128,
} as const

export const abilities: Abilities = {
  textLength: limits.text,
  captionLength: limits.caption,
  buttons: limits.buttonsInAll,
  buttonIdLength: limits.choiceId,
  buttonLabelLength: limits.label,
  media: ["image", "audio", "voice", "video", "file", "sticker"],
  markup: "HTML",
  tellsDelivery: false,
  parts: {
    text: { how: "native", as: "4096 characters a message, longer ones in several" },
    choices: { how: "native", as: "up to 100 buttons beneath the text" },
    media: { how: "native", as: "caption up to 1024; several of a sort as an album" },
    cards: { how: "simpler", as: "picture with buttons beneath, one message a card" },
    location: { how: "native", as: "its name is said before" },
    contact: { how: "native", as: "a contact card" },
    template: { how: "words", as: "its text with the parameters filled in" },
    reaction: { how: "native", as: "one emoji" },
    typing: { how: "native", as: "for about 5 seconds" },
    amend: { how: "native", as: "words and buttons of our own messages" },
    remove: { how: "native", as: "our own messages, within 48 hours" },
  },
}

export const pace: Pace = {
  perSecond: 30,
  perPlace: { count: 1, seconds: 1 },
  perGroup: { count: 20, seconds: 60 },
}

/** Named in `connect` and in polling: the last three come only when asked for. */
export const wantedUpdates = [
  "message",
  "edited_message",
  "channel_post",
  "edited_channel_post",
  "callback_query",
  "inline_query",
  "my_chat_member",
  "chat_join_request",
  "poll",
  "poll_answer",
  "chat_member",
  "message_reaction",
  "message_reaction_count",
]
