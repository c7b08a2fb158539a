import picomatch from "picomatch"
import { nearest } from "../gateway/nearest.ts"
import { tokensOf } from "../model/model.ts"
import type { RuleBook } from "../phrase/rules.ts"
import type { Bot, HandlersKnown } from "./bot.ts"
import type { NamedHandler, Say } from "./botFaults.ts"
import { slotsIn } from "./botFaults.ts"
import { faultsOfPlaces } from "./fillText.ts"
import { list } from "./parts.ts"

/** Characters of all instructions and facts of a bot. */
const longestFiles = 2_000_000

/**
 * What is wrong with handlers that ask a model: which model, instructions, facts and tools they name. Puts the texts they
 * name to the bot, so that they travel with its release.
 */
export function modelFaults(bot: Bot, named: NamedHandler[], book: RuleBook, known: HandlersKnown, say: Say): void {
  const documents = known.documents ?? {}
  const files: { [path: string]: string } = {}
  const models = Object.keys(bot.models ?? {})
  for (const { handler, path, when } of named) {
    if (typeof handler !== "object" || typeof handler.model !== "string") continue
    const model = bot.models?.[handler.model]
    if (!model) {
      const there = models.length > 0 ? `There are: ${models.join(", ")}.` : 'Write it under "models:".'
      const near = nearest(handler.model, models)
      say([...path, "model"], `there is no model "${handler.model}"`, near ? `Write ${near}.` : there)
    }
    const { instructions } = handler as { instructions: string }
    const text = Object.hasOwn(documents, instructions) ? documents[instructions]! : undefined
    if (text === undefined) {
      const near = nearest(instructions, Object.keys(documents))
      const remedy = near ? `Write ${near}, or make that file.` : "Make that file: it says how the model should answer."
      say([...path, "instructions"], `there is no file ${instructions} in the folder`, remedy)
    } else {
      files[instructions] = text
      const slots = when ? slotsIn(when, book) : []
      const nameable = { slots, hours: Object.keys(bot.hours ?? {}), texts: bot.texts ?? {} }
      for (const { says, remedy } of faultsOfPlaces(text, nameable))
        say([...path, "instructions"], `${instructions}: ${says}`, remedy)
      const room = model && model.context - model.answer
      if (room !== undefined && tokensOf(text) > room / 2)
        say(
          [...path, "instructions"],
          `${instructions} comes to about ${tokensOf(text)} tokens: more than half of what the model takes (${room})`,
          "Shorten it, put what is looked up under facts, or give the model a larger context.",
        )
    }
    for (const [at, pattern] of list(handler.facts as string | string[] | undefined).entries()) {
      const found = Object.keys(documents).filter((file) => picomatch(pattern)(file))
      if (found.length === 0)
        say([...path, "facts", at], `no file of the folder fits ${pattern}`, "Write it as facts/*.md.")
      for (const file of found) files[file] = documents[file]!
    }
    for (const [at, tool] of list(handler.tools as string[] | undefined).entries()) {
      if (known.tools?.has(tool)) continue
      const tools = [...(known.tools ?? [])]
      const near = nearest(tool, tools)
      say([...path, "tools", at], `there is no tool "${tool}"`, near ? `Write ${near}.` : `Make tools/${tool}.ts.`)
    }
  }
  const length = Object.values(files).reduce((sum, text) => sum + text.length, 0)
  if (length > longestFiles)
    say(
      ["models"],
      `instructions and facts come to ${length} characters; ${longestFiles} travel with a bot`,
      "Keep less in them.",
    )
  if (Object.keys(files).length > 0) bot.files = files
}
