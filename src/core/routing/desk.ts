import type { Message } from "../message/message.ts"
import { escapeMarkup } from "../message/markup.ts"
import type { ReplyPart } from "../message/reply.ts"

/** The place in which the people who answer for the bot are told who waits for them, and from which they take it. */
export interface DeskPlace {
  /** A channel the bot answers on. */
  channel: string
  /** The provider's id of the place. */
  place: string
  /** The command that lists who waits. */
  command: string
}

/** Somebody who waits for a person. */
export interface Waiting {
  conversation: string
  channel: string
  /** Who they are: a name, or the place's address. */
  name: string
  /** What was said last. */
  words?: string
}

/** What is asked for at the desk. */
export type DeskWish = { does: "list" } | { does: "take" | "give back"; conversation: string }

/** Characters that are shown of what was said, and of a name: strangers choose both. */
const longest = 200
const longestName = 60

/** What a message at the desk asks for; nothing where it is not for the desk. */
export function deskWish({ command, choice }: Message, desk: DeskPlace): DeskWish | undefined {
  if (command?.name === desk.command) return { does: "list" }
  const [, does, conversation] = /^desk:(take|back):(cnv_[0-9a-z]{26})$/.exec(choice?.id ?? "") ?? []
  if (conversation === undefined) return undefined
  return { does: does === "take" ? "take" : "give back", conversation }
}

/** Told when somebody begins to wait. */
export function waitsPart(waiting: Waiting, link: string): ReplyPart {
  const words = waiting.words ? `: “${escapeMarkup(cut(waiting.words))}”` : "."
  return {
    part: "choices",
    text: `**${escapeMarkup(cut(waiting.name, longestName))}** on ${escapeMarkup(waiting.channel)} waits for a person${words}\n[Open the conversation](${link})`,
    choices: [{ id: `desk:take:${waiting.conversation}`, label: "I answer" }],
  }
}

/** All that wait, the one that waits longest first; only so many can be taken from here. */
export function listParts(waiting: Waiting[]): ReplyPart[] {
  if (waiting.length === 0) return [{ part: "text", text: "Nobody waits for a person." }]
  const shown = waiting.slice(0, 8)
  const lines = shown.map(
    ({ name, channel, words }) =>
      `**${escapeMarkup(cut(name, longestName))}** on ${escapeMarkup(channel)}${words ? `: “${escapeMarkup(cut(words, 60))}”` : ""}`,
  )
  const more = waiting.length > shown.length ? [`and ${waiting.length - shown.length} more`] : []
  return [
    {
      part: "choices",
      text: [`${waiting.length === 1 ? "One waits" : `${waiting.length} wait`} for a person:`, ...lines, ...more].join(
        "\n",
      ),
      choices: shown.map(({ conversation, name }) => ({ id: `desk:take:${conversation}`, label: cut(name, 20) })),
    },
  ]
}

/** Told once somebody has taken a conversation, or another has it. */
export function takenPart(waiting: Waiting, who: string, mine: boolean, link: string): ReplyPart {
  const name = escapeMarkup(cut(waiting.name, longestName))
  if (!mine) return { part: "text", text: `${escapeMarkup(who)} already answers **${name}**.` }
  return {
    part: "choices",
    text: `${escapeMarkup(who)} answers **${name}** now; the bot keeps quiet there.\n[Open the conversation](${link})`,
    choices: [{ id: `desk:back:${waiting.conversation}`, label: "Back to the bot" }],
  }
}

export function givenBackPart(waiting: Waiting): ReplyPart {
  return { part: "text", text: `The bot answers **${escapeMarkup(cut(waiting.name, longestName))}** again.` }
}

function cut(text: string, most = longest): string {
  const line = text.replace(/\s+/g, " ").trim()
  return [...line].length <= most ? line : `${[...line].slice(0, most - 1).join("")}…`
}
