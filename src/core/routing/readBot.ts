import { readYaml } from "../message/yaml.ts"
import { nearest } from "../gateway/nearest.ts"
import type { Phrase } from "../phrase/read.ts"
import { PhraseError, readPhrase, shownPhrase } from "../phrase/read.ts"
import { countOf, RuleBook, RuleError } from "../phrase/rules.ts"
import { everyCondition } from "./condition.ts"
import { quotedInLine, unquotedPhrases } from "./quoting.ts"
import type { GroupRule } from "./addressed.ts"
import type { Bot, BotReading, Fault, HandlersKnown } from "./bot.ts"
import { botSchema, phraseFault } from "./botSchema.ts"
import { deadlineFaults, handlersNamed, hoursFaults, textFaults } from "./botFaults.ts"
import { inWords, isRenamed } from "./schemaWords.ts"
import { modelFaults } from "./modelFaults.ts"
import { offsetOf } from "./yamlPlace.ts"

/** Characters of a bot: ten thousand routes are half of it. */
const longestBot = 2_000_000

/** Parts that all phrases of a bot may come to, their rules written out. */
const mostParts = 500_000

/** What may be written for a handler, by the kind that stands where a path leads. */
function namesOfHandler(source: unknown, path: (string | number)[], kinds: HandlersKnown["kinds"]): string[] {
  const at = path.lastIndexOf("handler")
  const written = path
    .slice(0, at + 1)
    .reduce<unknown>((value, name) => (value as { [name: string]: unknown } | undefined)?.[name], source)
  const kind = Object.keys(kinds).find((name) => typeof written === "object" && written !== null && name in written)
  const schema = kinds[kind ?? "text"]
  return schema ? Object.keys((schema.describe() as { keys?: object }).keys ?? {}) : []
}

/** Reads `bot.yaml`. */
export function readBot(source: string, file: string, known: HandlersKnown): BotReading {
  const handlers = known.files
  const read = readYaml(source, longestBot)
  const { lines } = read
  if ("faults" in read) {
    const written = source.split("\n")
    const told = read.faults.map(({ at, ...words }) => {
      const { line, col } = lines.linePos(at)
      const place = { file, line: Math.max(1, line), column: Math.max(1, col) }
      const quoted = quotedInLine(written[place.line - 1] ?? "")
      return { quoted: quoted !== undefined, fault: { ...place, ...(quoted ?? words) } }
    })
    // A bracket that YAML takes for its own upsets every line behind it.
    const unquoted = told.filter(({ quoted }) => quoted).map(({ fault }) => fault)
    if (unquoted.length === 0) return { faults: told.map(({ fault }) => fault) }
    return { faults: unquoted.filter(({ line }, at) => line !== unquoted[at - 1]?.line) }
  }
  const { document } = read
  const faults: Fault[] = []

  const where = (path: (string | number)[]): { line?: number; column?: number } => {
    const offset = offsetOf(document.contents, path)
    if (offset === undefined) return {}
    const { line, col } = lines.linePos(offset)
    return { line, column: col }
  }
  for (const { at, says, remedy } of unquotedPhrases(document, source)) {
    const { line, col } = lines.linePos(at)
    faults.push({ file, line, column: col, says, remedy })
  }
  if (faults.length > 0) return { faults }
  const { value, error } = botSchema(known.kinds).validate(read.value ?? {}, { abortEarly: false })
  const details = error?.details ?? []
  for (const detail of details) {
    if (!isRenamed(detail, details))
      faults.push({
        file,
        ...where(detail.path),
        ...inWords(detail, namesOfHandler(read.value, detail.path, known.kinds)),
      })
  }
  if (faults.length > 0) return { faults }

  const bot = value as Bot
  const groups: unknown = bot.groups
  if (typeof groups === "string") bot.groups = { otherwise: groups as GroupRule }
  const ofFiles = known.rules ?? {}
  for (const name of Object.keys(bot.rules ?? {}))
    if (Object.hasOwn(ofFiles, name)) {
      const remedy = "Remove it here, or remove the file."
      faults.push({ file, ...where(["rules", name]), says: `the rule ${name} has a file of its own too`, remedy })
    }
  if (Object.keys(ofFiles).length > 0) bot.rules = { ...bot.rules, ...ofFiles }
  bot.language = [bot.language].flat()
  const book = rulesOf(bot, (path, says) => faults.push({ file, ...where(["rules", ...path]), says }))
  if (!book) return { faults }
  let parts = 0
  for (const [path, source] of phrasesIn(bot)) {
    const read = resolvedPhrase(book, source)
    if ("says" in read) {
      faults.push({ file, ...where(path), ...read })
      continue
    }
    parts += countOf(read)
    if (parts > mostParts) {
      const says = `the bot's phrases up to "${shownPhrase(source)}" come to more than ${mostParts} parts`
      faults.push({ file, ...where(path), says, remedy: "Refer to large rules from fewer phrases." })
      break
    }
  }
  const say = (path: (string | number)[], says: string, remedy?: string) =>
    faults.push({ file, ...where(path), says, ...(remedy === undefined ? {} : { remedy }) })
  const named = handlersNamed(bot)
  for (const { handler, path } of named) {
    if (typeof handler !== "string" || handlers.has(handler)) continue
    const near = nearest(handler, [...handlers])
    const such = near ? `Write ${near}. ` : ""
    say(
      path,
      `there is no handler "${handler}"`,
      handlers.size > 0 ? `${such}There are: ${[...handlers].join(", ")}.` : `Make handlers/${handler}.ts.`,
    )
  }
  hoursFaults(bot, known.calendars ?? {}, say)
  for (const name of Object.keys(known.texts ?? {}))
    if (Object.hasOwn(bot.texts ?? {}, name))
      say(["texts", name], `the text ${name} stands in a file of its own too`, "Remove it here, or there.")
  bot.texts = { ...bot.texts, ...known.texts }
  if (Object.keys(bot.texts).length === 0) delete bot.texts
  // What its slots are is not known of a phrase with a fault.
  if (faults.length > 0) return { faults }
  textFaults(bot, named, book, say)
  modelFaults(bot, named, book, known, say)
  deadlineFaults(bot, known.kinds, say)
  if (faults.length > 0) return { faults }
  return { bot, lines: bot.routes.map((_route, at) => where(["routes", at]).line ?? 1) }
}

/** A bot's rules, read; undefined where one is at fault. */
function rulesOf(bot: Bot, fault: (path: string[], says: string) => void): RuleBook | undefined {
  try {
    const book = new RuleBook(bot.rules)
    for (const name of book.names) book.resolved({ is: "rule", rule: name, slot: name, at: 0 })
    return book
  } catch (error) {
    if (error instanceof RuleError) fault(error.path, error.message)
    else if (error instanceof PhraseError) fault([], error.message)
    else throw error
    return undefined
  }
}

/** A phrase, its rules written out; or what is wrong with it. */
function resolvedPhrase(book: RuleBook, source: string): Phrase | { says: string; remedy?: string } {
  try {
    return book.resolved(readPhrase(source))
  } catch (error) {
    return phraseFault(source, error)
  }
}

/** Every phrase of a bot's routes, and the path to it. */
function phrasesIn(bot: Bot): [path: (string | number)[], source: string][] {
  return bot.routes.flatMap(({ when }, at) =>
    [...everyCondition(when, ["routes", at, "when"])].flatMap(([{ phrase }, path]) =>
      Array.isArray(phrase)
        ? phrase.map((one, n): [(string | number)[], string] => [[...path, "phrase", n], one])
        : phrase === undefined
          ? []
          : [[[...path, "phrase"], phrase] as [(string | number)[], string]],
    ),
  )
}
