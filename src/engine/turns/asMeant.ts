import { tokenMark } from "../../core/channels/choiceTokens.ts"
import { kindOf } from "../../core/channels/registry.ts"
import { optionMeant } from "../../core/routing/optionMeant.ts"
import type { Database } from "../../store/database.ts"
import { wordsAnswered } from "../../store/facts.ts"
import type { Line, PendingMessage } from "../../store/lines.ts"
import { choicesBehind } from "../../store/turns.ts"
import type { KnownChannel } from "../channels.ts"
import type { People } from "../people/people.ts"

/** A token that came back is the choice it stands for; so is an option typed by hand, by its number or its words. */
export async function withChoices(database: Database, line: Line, group: PendingMessage[]): Promise<PendingMessage[]> {
  const { channel } = line
  const [only] = group
  if (group.length === 1 && only!.message.event === "text" && only!.message.text !== undefined) {
    // In a group, a question is one person's: others who say "2" do not answer it.
    const { from } = only!.message
    const offered = line.offered.filter(({ to }) => to === undefined || to === from?.address)
    const meant = optionMeant(only!.message.text, offered)
    if (meant) return [{ ...only!, message: { ...only!.message, event: "choice", choice: { ...meant } } }]
  }
  const tokens = group
    .filter((one) => one.message.choice?.id.startsWith(tokenMark))
    .map((one) => ({ channel, token: one.message.choice!.id }))
  if (tokens.length === 0) return group
  const behind = await choicesBehind(database, tokens)
  return group.map((one) => {
    const meant = one.message.choice && behind.get(`${channel} ${one.message.choice.id}`)
    return meant ? { ...one, message: { ...one.message, choice: meant, text: meant.label } } : one
  })
}

/** Characters of an answered message's words that are said along. */
const longestQuote = 2000

/** Answers with the words of what they answer, on kinds that tell only its id. */
export async function withQuotes(
  database: Database,
  { conversation }: Line,
  group: PendingMessage[],
): Promise<PendingMessage[]> {
  const lacks = ({ message: { event, replyTo, quote } }: PendingMessage) =>
    replyTo !== undefined && quote === undefined && (event === "text" || event === "media")
  const ids = group.filter(lacks).map(({ message }) => message.replyTo!)
  if (ids.length === 0) return group
  const said = await wordsAnswered(database, conversation, ids)
  return group.map((one) => {
    const words = lacks(one) ? said.get(one.message.replyTo!) : undefined
    return words === undefined ? one : { ...one, message: { ...one.message, quote: words.slice(0, longestQuote) } }
  })
}

/** The messages with the names of who said them, on kinds that tell none. */
export async function named(people: People, known: KnownChannel, group: PendingMessage[]): Promise<PendingMessage[]> {
  if (!kindOf(known.row.kind).people) return group
  return Promise.all(
    group.map(async (one) =>
      // Nobody is asked about a person who was made up.
      one.message.simulated ? one : { ...one, message: await people.named(known, one.message) },
    ),
  )
}
