import Joi from "joi"
import { speaks } from "./checks.ts"
import { oneOrMore } from "./parts.ts"

/** A text as an author writes it: its words, or several variants, or one of these for each language. */
export type Written = string | string[] | { [language: string]: string | string[] }

/** A bot's texts, by their names: what `{{texts.name}}` stands for. */
export interface Texts {
  [name: string]: Written
}

const words = Joi.string().min(1).max(20_000)
const language = /^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$/

/** What may be written for a text. */
export const writtenText = Joi.when(Joi.object(), {
  then: Joi.object()
    .pattern(language, oneOrMore(words))
    .min(1)
    .messages({ "object.unknown": '"{#child}" is no language; write its code, such as en or pt-BR' }),
  otherwise: oneOrMore(words),
})

export const textNames = Joi.object().pattern(/^[a-z][A-Za-z0-9]*$/, writtenText)

/** The variants of a text for somebody, and the language they are in where the author says it. */
export function variantsFor(written: Written, spoken: string | undefined, languages: string[]): ChosenText {
  if (typeof written === "string") return { variants: [written] }
  if (Array.isArray(written)) return { variants: written }
  const codes = Object.keys(written)
  const wished = [...(spoken ? [spoken] : []), ...languages]
  // Somebody who speaks pt-BR reads pt rather than the bot's own language; and pt-BR where there is no pt.
  const fits = (wish: string) =>
    codes.find((code) => code.toLowerCase() === wish.toLowerCase()) ??
    codes.find((code) => speaks(wish, code)) ??
    codes.find((code) => speaks(code, wish.split("-")[0]!))
  const code = wished.map(fits).find((found) => found !== undefined) ?? codes[0]!
  return { variants: [written[code]!].flat(), language: code }
}

export interface ChosenText {
  variants: string[]
  language?: string
}

/** Every text that is written in one, with the path to each. */
export function textsIn(written: Written): [path: (string | number)[], text: string][] {
  if (typeof written === "string") return [[[], written]]
  if (Array.isArray(written)) return written.map((text, at) => [[at], text])
  return Object.entries(written).flatMap(([code, given]) =>
    textsIn(given).map(([path, text]): [(string | number)[], string] => [[code, ...path], text]),
  )
}

/** Whether a text has variants in any language. */
export function isVaried(written: Written): boolean {
  return (
    typeof written === "object" && (Array.isArray(written) ? written.length > 1 : Object.values(written).some(isVaried))
  )
}
