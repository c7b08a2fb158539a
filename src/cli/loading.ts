import { existsSync, readFileSync } from "node:fs"
import Module, { createRequire, SourceMap } from "node:module"
import type { SourceMapPayload } from "node:module"
import { dirname, join } from "node:path"
import { fileURLToPath } from "node:url"
import { cachedDataVersionTag } from "node:v8"
import { Script } from "node:vm"
import type * as Program from "./program.ts"

/**
 * Loads all of Wobbet but its first lines: one file, with what V8 made of it when it was built, so that a service starts
 * in about half the time. Where another Node runs, or the same with other flags, the file is compiled as usual.
 */
export function loadProgram(): typeof Program {
  const file = fileURLToPath(new URL("./program.cjs", import.meta.url))
  // Named by version and flags, so that what does not fit is never read.
  const compiled = join(dirname(file), `program-${cachedDataVersionTag()}.compiled`)
  const script = new Script(Module.wrap(readFileSync(file, "latin1")), {
    filename: file,
    ...(existsSync(compiled) ? { cachedData: readFileSync(compiled) } : {}),
  })
  const module = { exports: {} as typeof Program }
  const run = script.runInThisContext() as (...given: unknown[]) => void
  if (process.sourceMapsEnabled) nameSources(file)
  run.call(module.exports, module.exports, createRequire(file), module, file, dirname(file))
  return module.exports
}

/** Errors name the sources that were built, and not the program's one file. Its map is read for the first of them. */
function nameSources(file: string): void {
  let map: SourceMap | undefined
  const placed = (frame: NodeJS.CallSite): string => {
    const line = frame.getLineNumber()
    const column = frame.getColumnNumber()
    if (frame.getFileName() !== file || line === null || column === null) return String(frame)
    try {
      map ??= new SourceMap(JSON.parse(readFileSync(`${file}.map`, "utf8")) as SourceMapPayload)
      const entry = map.findEntry(line - 1, column - 1)
      if (!("originalSource" in entry)) return String(frame)
      const source = join(dirname(file), entry.originalSource)
      return String(frame).replace(
        `${file}:${line}:${column}`,
        () => `${source}:${entry.originalLine + 1}:${entry.originalColumn + 1}`,
      )
    } catch {
      return String(frame)
    }
  }
  Error.prepareStackTrace = (error, frames) =>
    [String(error), ...frames.map((frame) => `    at ${placed(frame)}`)].join("\n")
}
