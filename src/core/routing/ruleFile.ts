import { CsvError, parse } from "csv-parse/sync"
import { isMap, isScalar } from "yaml"
import { readYaml } from "../message/yaml.ts"
import { PhraseError, readPhrase } from "../phrase/read.ts"

/** Words, and the phrases that stand for each of them. */
export interface RuleMapping {
  [value: string]: string[]
}

export interface RuleFileFault {
  line: number
  says: string
  remedy?: string
}

/** Words in a file. */
const mostWords = 20_000
/** Faults that are told at once. */
const mostTold = 20

/**
 * Reads a rule's own file: YAML, a mapping of words to a phrase or several; or CSV without a heading, the word in the first
 * column and its phrases in the others. A word without phrases stands for itself.
 */
export function readRuleFile(
  source: string,
  format: "yaml" | "csv",
): { mapping: RuleMapping } | { faults: RuleFileFault[] } {
  const rows = format === "csv" ? csvRows(source) : yamlRows(source)
  if ("faults" in rows) return rows
  const faults: RuleFileFault[] = []
  const mapping = new Map<string, string[]>()
  for (const { line, value, phrases } of rows.rows) {
    if (faults.length >= mostTold) break
    const fault = (says: string, remedy: string) => faults.push({ line, says, remedy })
    if (value === "") fault("a row has no word in its first column", "Write the word that the slot holds.")
    else if (mapping.has(value)) fault(`"${value}" stands there twice`, "Write all its phrases beside the first.")
    const read = phrases.length > 0 ? phrases : [JSON.stringify(value.replaceAll('"', ""))]
    for (const phrase of read) {
      const says = unreadable(phrase)
      if (says !== undefined) fault(`the phrase "${phrase}" cannot be read: ${says}`, "docs/phrases.md has the form.")
    }
    mapping.set(value, read)
  }
  if (mapping.size > mostWords)
    faults.push({ line: 1, says: `there are ${mapping.size} words; ${mostWords} are read`, remedy: "Write less." })
  if (mapping.size === 0 && faults.length === 0)
    faults.push({ line: 1, says: "the file holds no words", remedy: "Write one word a row, and its phrases." })
  return faults.length > 0 ? { faults } : { mapping: Object.fromEntries(mapping) }
}

interface Row {
  line: number
  value: string
  phrases: string[]
}

function csvRows(source: string): { rows: Row[] } | { faults: RuleFileFault[] } {
  try {
    // With `info`, a row comes with the line it stands in, which the types do not say.
    const rows = parse(source, {
      bom: true,
      trim: true,
      info: true,
      skip_empty_lines: true,
      relax_column_count: true,
    }) as unknown as { record: string[]; info: { lines: number } }[]
    return {
      rows: rows.map(({ record: [value = "", ...phrases], info }) => ({
        line: info.lines,
        value,
        phrases: phrases.filter((phrase) => phrase !== ""),
      })),
    }
  } catch (error) {
    if (!(error instanceof CsvError)) throw error
    const line = typeof error.lines === "number" ? error.lines : 1
    const remedy = "A quotation mark inside quotation marks is written twice."
    return { faults: [{ line, says: `the row cannot be read as CSV (${error.message.split(" at line")[0]})`, remedy }] }
  }
}

function yamlRows(source: string): { rows: Row[] } | { faults: RuleFileFault[] } {
  const read = readYaml(source)
  const lineOf = (at: number) => Math.max(1, read.lines.linePos(at).line)
  if ("faults" in read) return { faults: read.faults.map(({ at, ...fault }) => ({ line: lineOf(at), ...fault })) }
  const { contents } = read.document
  if (!isMap(contents))
    return {
      faults: [{ line: 1, says: "the file is no mapping", remedy: 'Write rows such as Holm Island: ["holm"].' }],
    }
  const faults: RuleFileFault[] = []
  const rows = contents.items.flatMap(({ key, value }): Row[] => {
    const line = isScalar(key) && key.range ? lineOf(key.range[0]) : 1
    const given: unknown = value === null ? null : (value as { toJSON: () => unknown }).toJSON()
    const phrases = given === null ? [] : [given].flat()
    if (isScalar(key) && phrases.every((phrase) => typeof phrase === "string"))
      return [{ line, value: String(key.value), phrases }]
    faults.push({ line, says: "a word has something else than phrases", remedy: 'Write "…", or ["…", "…"].' })
    return []
  })
  return faults.length > 0 ? { faults: faults.slice(0, mostTold) } : { rows }
}

function unreadable(phrase: string): string | undefined {
  try {
    readPhrase(phrase)
    return undefined
  } catch (error) {
    if (error instanceof PhraseError) return error.message
    throw error
  }
}
