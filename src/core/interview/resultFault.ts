import Joi from "joi"
import { mediaKinds } from "../message/message.ts"
import type { InterviewResult } from "./interviewRun.ts"
import { mostBytes, mostEntries } from "./journal.ts"
import { momentsSaid } from "./words.ts"

const words = Joi.string().max(20_000)
const time = Joi.number()
  .min(0)
  .max(400 * 86_400_000)
const mapping = Joi.object().unknown(true)
const option = Joi.object({
  id: Joi.string().max(500).required(),
  label: Joi.string().max(2000).pattern(/\S/, "words").required(),
})
const leaving = Joi.alternatives(Joi.valid("person"), Joi.object({ route: Joi.string().max(200).required() }))

const kinds = [
  ...[
    "text",
    "number",
    "integer",
    "date",
    "time",
    "choice",
    "choices",
    "yesNo",
    "phone",
    "email",
    "media",
    "location",
    "list",
  ],
]

const question = Joi.object({
  kind: Joi.valid(...kinds).required(),
  text: words.pattern(/\S/, "words").required(),
  options: Joi.array().items(option).unique("id").min(1).max(100),
  min: Joi.number(),
  max: Joi.number(),
  from: Joi.string().max(40),
  to: Joi.string().max(40),
  media: Joi.array().items(Joi.valid(...mediaKinds)),
  tries: Joi.number().integer().min(1).max(20),
  within: time,
  remind: time,
  otherwise: Joi.object({ say: words, value: Joi.any(), leave: leaving }).length(1),
  perRow: Joi.number().integer().min(1).max(8),
}).when(Joi.object({ kind: Joi.valid("choice", "choices") }).unknown(), {
  then: Joi.object({ options: Joi.required() }),
})

const stands = Joi.alternatives(
  Joi.object({ waits: Joi.valid("answer").required(), question: question.required() }),
  Joi.object({
    waits: Joi.valid("time").required(),
    until: Joi.alternatives(Joi.string().isoDate(), Joi.object({ for: time.required() })).required(),
  }),
  Joi.object({ waits: Joi.valid("word").required(), when: mapping.required(), within: time }),
  Joi.object({ ended: Joi.valid("done").required() }),
  Joi.object({ ended: Joi.valid("left").required(), to: leaving.required(), say: words }),
)

const parting = Joi.object({
  n: Joi.number().required(),
  was: Joi.string().allow("").max(5000).required(),
  is: Joi.string().allow("").max(5000).required(),
  line: Joi.string().max(500),
})

const result = Joi.object({
  id: Joi.string().required(),
  entries: Joi.array().items(mapping).max(mostEntries).required(),
  stands: stands.required(),
  settings: Joi.object({
    within: time,
    remind: time,
    tries: Joi.number().integer().min(1).max(20),
    texts: Joi.object(Object.fromEntries(momentsSaid.map((moment) => [moment, words]))),
  }).required(),
  refused: words,
  noWayBack: Joi.valid(true),
  tooDeep: Joi.valid(true),
  tooLong: Joi.string().max(500),
  remember: Joi.object({ state: mapping, contact: mapping }).required(),
  differs: parting,
  unsteady: parting,
})

/** Characters of a condition that something is expected by. */
const longestCondition = 5000

/** What is wrong with what an interview came to, in words: a handler may yield anything. */
export function resultFault(given: InterviewResult): string | undefined {
  const { error } = result.validate(given, { convert: false }) as { error?: Error }
  if (error) return error.message
  const { stands, entries } = given
  if (JSON.stringify(entries).length > mostBytes) return `its journal has more than ${mostBytes / 1024} kB`
  if ("waits" in stands && stands.waits === "word" && JSON.stringify(stands.when).length > longestCondition)
    return `what it expects has more than ${longestCondition} characters`
  return undefined
}
