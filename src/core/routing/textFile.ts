import { readYaml } from "../message/yaml.ts"
import type { Fault } from "./bot.ts"
import { inWords } from "./schemaWords.ts"
import type { Texts } from "./texts.ts"
import { textNames } from "./texts.ts"
import { offsetOf } from "./yamlPlace.ts"

/** Reads a file of texts: a mapping of names to texts. */
export function readTextFile(source: string, file: string): { texts: Texts } | { faults: Fault[] } {
  const read = readYaml(source)
  const { lines } = read
  const where = (offset: number | undefined) => {
    const { line, col } = lines.linePos(offset ?? 0)
    return { line: Math.max(1, line), column: Math.max(1, col) }
  }
  if ("faults" in read) return { faults: read.faults.map(({ at, ...words }) => ({ file, ...where(at), ...words })) }
  const { value, error } = textNames.validate(read.value ?? {}, { abortEarly: false })
  if (!error) return { texts: value as Texts }
  const { contents } = read.document
  return { faults: error.details.map((one) => ({ file, ...where(offsetOf(contents, one.path)), ...inWords(one) })) }
}
