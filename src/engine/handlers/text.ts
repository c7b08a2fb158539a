import Joi from "joi"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { Filling } from "../../core/routing/fillText.ts"
import { fillText, Marked } from "../../core/routing/fillText.ts"
import { mentionOf } from "../../core/message/mention.ts"
import type { RouteTable } from "../../core/routing/table.ts"
import type { Written } from "../../core/routing/texts.ts"
import { writtenText } from "../../core/routing/texts.ts"
import type { HandlerGiven, HandlerKind, TurnInput } from "./handler.ts"

interface TextHandler {
  text: Written
  choices?: { id: string; label: Written; url?: string }[]
}

/** `handler: { text: "…" }`: says a text, with what is known filled in; with choices, as a question. */
export const text: HandlerKind = {
  kind: "text",
  schema: Joi.object({
    text: writtenText.required(),
    choices: Joi.array()
      .items(Joi.object({ id: Joi.string().required(), label: writtenText.required(), url: Joi.string().uri() }))
      .min(1),
  }),
  async run(written, turn, { table }, given) {
    const { text: words, choices } = written as unknown as TextHandler
    const log: string[] = []
    const filling = fillingOf(turn, table, given)
    const said = fillText(words, filling, log)
    const labelled = choices?.map((choice) => ({ ...choice, label: fillText(choice.label, filling, log) }))
    const part: ReplyPart = labelled ? { part: "choices", text: said, choices: labelled } : { part: "text", text: said }
    return { outcome: { replies: [part] }, log }
  },
}

/** What stands for the places of a bot's own texts. */
export function fillingOf(
  { message, slots, state, channel, now }: TurnInput,
  table: RouteTable,
  given: HandlerGiven,
): Filling {
  const { texts = {}, language, country, zone } = table.bot
  const { from } = message
  const mention = from && new Marked(mentionOf(from.address, from.name ?? from.handle ?? from.address))
  return {
    values: { message, slots, state, contact: { ...from, fields: given.fields, mention }, channel },
    texts,
    spoken: message.from?.language,
    languages: language,
    country,
    zone,
    now,
    times: given.times,
    opening: (name) => table.opening(name, now),
  }
}
