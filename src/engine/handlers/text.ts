import Joi from "joi"
import type { ReplyPart } from "../../core/message/reply.ts"
import { fillText } from "../../core/routing/fillText.ts"
import type { HandlerKind } from "./handler.ts"

interface Written {
  text: string
  choices?: { id: string; label: string; url?: string }[]
}

/** `handler: { text: "…" }`: says a text, with what is known filled in; with choices, as a question. */
export const text: HandlerKind = {
  kind: "text",
  schema: Joi.object({
    text: Joi.string().required(),
    choices: Joi.array()
      .items(Joi.object({ id: Joi.string().required(), label: Joi.string().required(), url: Joi.string().uri() }))
      .min(1),
  }),
  async run(written, { message, slots, state, channel }) {
    const { text: words, choices } = written as unknown as Written
    const said = fillText(words, { message, slots, state, contact: message.from ?? {}, channel })
    const part: ReplyPart = choices ? { part: "choices", text: said, choices } : { part: "text", text: said }
    return { outcome: { replies: [part] }, log: [] }
  },
}
