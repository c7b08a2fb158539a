import type { Document } from "yaml"
import { LineCounter, parseDocument } from "yaml"
import { wordsOf } from "./yamlWords.ts"

/** Characters of a document; the longest profiles are a tenth of it. */
const usual = 200_000
/** How deep brackets and braces may be nested. */
const deepest = 50
/** Faults that are told at once. */
const mostTold = 20

/** What is wrong, where in the text, and what to write instead. */
export interface YamlFault {
  at: number
  says: string
  remedy: string
}

export interface YamlReading {
  document: Document
  lines: LineCounter
  value: unknown
}

/**
 * Reads YAML that somebody sent, or says where it is wrong, by the place in the text. What would take long or much
 * memory is refused first: brackets nested thousands of times end the process in the reader itself.
 */
export function readYaml(source: string, longest = usual): YamlReading | { lines: LineCounter; faults: YamlFault[] } {
  const lines = new LineCounter()
  const refused = (says: string, at = 0) => ({ lines, faults: [{ at, says, remedy: "Write less of it, or flatter." }] })
  if (source.length > longest) return refused(`it is longer than ${longest} characters`)
  const tooDeep = nestedAt(source)
  if (tooDeep !== undefined) return refused("brackets are nested too deeply", tooDeep)
  try {
    // Pretty errors look for their line in the whole text, each of them.
    const document = parseDocument(source, { lineCounter: lines, prettyErrors: false })
    if (document.errors.length > 0)
      return {
        lines,
        faults: document.errors.slice(0, mostTold).map((error) => ({
          at: error.pos[0],
          ...wordsOf(error.code, error.message),
        })),
      }
    return { document, lines, value: document.toJS() as unknown }
  } catch (error) {
    // Aliases that multiply, or name nothing; or lists within lists without an end.
    if (error instanceof RangeError) return refused("it is nested too deeply")
    const says = /alias|anchor/i.test((error as Error).message)
      ? "a text begins with *, as if it named something from before"
      : (error as Error).message.split("\n")[0]!
    return { lines, faults: [{ at: 0, says, remedy: "Put quotation marks around a text that begins with * or &." }] }
  }
}

/** Where brackets are first nested too deeply, whether or not they stand in quotation marks. */
function nestedAt(source: string): number | undefined {
  let depth = 0
  for (let at = 0; at < source.length; at++) {
    const unit = source.charCodeAt(at)
    if (unit === 0x5b || unit === 0x7b) {
      if (++depth > deepest) return at
    } else if (unit === 0x5d || unit === 0x7d) depth = Math.max(0, depth - 1)
  }
  return undefined
}
