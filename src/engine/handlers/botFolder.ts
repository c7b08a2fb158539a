import { createHash } from "node:crypto"
import { existsSync } from "node:fs"
import { readdir, stat } from "node:fs/promises"
import { join, relative, resolve } from "node:path"
import type { Message as EsbuildMessage } from "esbuild"
import { watch } from "chokidar"
import { build } from "esbuild"
import type { Bot, Fault } from "../../core/routing/bot.ts"
import { readBot } from "../../core/routing/readBot.ts"
import { noteInWords } from "../../core/routing/noteWords.ts"
import { notesOf } from "../../core/routing/overlap.ts"
import { readTextFile } from "../../core/routing/textFile.ts"
import type { Texts } from "../../core/routing/texts.ts"
import type { RuleMapping } from "../../core/routing/ruleFile.ts"
import { readRuleFile } from "../../core/routing/ruleFile.ts"
import { readProfile } from "../../core/gateway/readProfile.ts"
import { profiles as shippedProfiles } from "../../core/gateway/shipped.ts"
import type { FolderSource } from "./folderReader.ts"
import { FolderReader, NotRead } from "./folderReader.ts"
import type { HandlerError } from "./handler.ts"
import { folderWord } from "./hostProtocol.ts"
import { writtenHandlers } from "./registry.ts"
import { shownPath } from "./shownPath.ts"
import { readStateSchema, schemaEntry, schemaLibraries } from "./stateSchema.ts"
import { tableOf } from "./tables.ts"
import { toolEntries, toolImports } from "./toolEntries.ts"

/** A bot folder, read, checked and bundled. */
export interface BotPackage {
  /** Hash of everything in it. */
  id: string
  bot: Bot
  bundle: string | null
  /** What is odd about its routes, such as one that is never met. */
  notes: Fault[]
  /** Gateway profiles of the folder's own, by name, as they are written. */
  profiles: { [name: string]: string }
}

/** Bytes of bot.yaml, of a profile, of a rule's own file, of a file of texts, and of a calendar. */
const longestBot = 4_000_000
const longestProfile = 500_000
const longestRules = 2_000_000
const longestTexts = 200_000
const longestCalendar = 500_000

/** @property files the code handlers, also where something is wrong with the folder */
export type BotFolderReading = ({ ready: BotPackage } | { faults: Fault[] }) & { files: string[] }

/**
 * Reads a bot folder: `bot.yaml`, and the code handlers under `handlers/`, bundled with the SDK into one module. All of it
 * is read by the FolderReader's rules.
 */
export async function readBotFolder(folder: string, from: FolderSource): Promise<BotFolderReading> {
  const file = join(folder, "bot.yaml")
  if (!existsSync(file)) {
    const remedy = `Make ${shownPath(file)}, or name another folder with --bot.`
    return { files: [], faults: [{ file: shownPath(file), says: "there is no bot.yaml in the folder", remedy }] }
  }
  const reader = new FolderReader(folder, from)
  const source = await reader.textOr(file, longestBot)
  if (typeof source !== "string") return { files: [], faults: [source] }
  const files = await codeFiles(join(folder, "handlers"))
  const tools = await codeFiles(join(folder, "tools"))
  const documents = await readDocuments(reader)
  const rules = await readRules(reader)
  const texts = await readTexts(reader)
  const calendars = await readCalendars(reader)
  const known = {
    files: new Set(files.keys()),
    kinds: writtenHandlers,
    rules: rules.mappings,
    texts: texts.texts,
    calendars: calendars.files,
    documents: documents.files,
    tools: new Set(tools.keys()),
  }
  const reading = readBot(source, shownPath(file), known)
  const state = await readStateSchema(reader)
  const schema = state && "schema" in state ? state : undefined
  const alongside = await readFilesOf(reader)
  const bundle = await bundleHandlers(reader, files, from.sdk, {
    schema: schema?.code,
    files: alongside.files,
    tools,
  })
  const profiles = await readProfiles(reader)
  const ofFiles = [...alongside.faults, ...rules.faults, ...texts.faults, ...calendars.faults, ...documents.faults]
  const faults = [
    // Without a file that cannot be read, much would be at fault that is not.
    ...(ofFiles.length > 0 ? ofFiles : "faults" in reading ? reading.faults : []),
    ...profiles.faults,
    ...(state && "faults" in state ? state.faults : []),
    ...("faults" in bundle ? bundle.faults : []),
  ]
  const typed = [
    ...files.values(),
    ...tools.values(),
    ...(schema?.schema.file === "state.ts" ? [join(folder, "state.ts")] : []),
  ]
  if ("faults" in reading || "faults" in bundle || faults.length > 0) return { files: typed, faults }
  if (schema) reading.bot.stateSchema = schema.schema
  const id = createHash("sha256")
    .update(JSON.stringify(reading.bot))
    .update("\n")
    .update(bundle.code ?? "")
    .digest("hex")
    .slice(0, 16)
  return {
    files: typed,
    ready: {
      id,
      bot: reading.bot,
      bundle: bundle.code,
      notes: notesWithLines(id, reading.bot, reading.lines, shownPath(file)),
      profiles: profiles.sources,
    },
  }
}

function notesWithLines(id: string, definition: Bot, lines: number[], file: string): Fault[] {
  return notesOf(tableOf({ id, definition })).map((note) => ({ file, line: lines[note.at] ?? 1, ...noteInWords(note) }))
}

/** The gateway profiles under `profiles/`; what is wrong in one is said with its line, and what would be right. */
async function readProfiles(reader: FolderReader): Promise<{ sources: { [name: string]: string }; faults: Fault[] }> {
  const inside = join(reader.folder, "profiles")
  const found = await readdir(inside).catch(() => [])
  const sources: { [name: string]: string } = {}
  const faults: Fault[] = []
  for (const name of found.filter((one) => /\.ya?ml$/.test(one)).sort()) {
    const source = await reader.textOr(join(inside, name), longestProfile)
    if (typeof source !== "string") {
      faults.push(source)
      continue
    }
    const file = shownPath(join(inside, name))
    const read = readProfile(source)
    if ("faults" in read)
      faults.push(
        ...read.faults.map(({ line, field, says, remedy }) => ({
          file,
          line,
          says: field && !says.startsWith(field) ? `${field}: ${says}` : says,
          remedy,
        })),
      )
    else if (Object.hasOwn(shippedProfiles, read.profile.profile)) {
      const says = `the profile "${read.profile.profile}" ships with Wobbet and stays as it is`
      faults.push({ file, line: 1, says, remedy: "Give yours another name." })
    } else sources[read.profile.profile] = source
  }
  return { sources, faults }
}

/** The rules under `rules/`, each named as its file: `rules/place.csv` is `$place`. */
async function readRules(
  reader: FolderReader,
): Promise<{ mappings: { [name: string]: RuleMapping }; faults: Fault[] }> {
  const inside = join(reader.folder, "rules")
  const found = await readdir(inside).catch(() => [])
  const mappings: { [name: string]: RuleMapping } = {}
  const faults: Fault[] = []
  for (const written of found.sort()) {
    const file = shownPath(join(inside, written))
    const [, name, format] = /^([a-z][A-Za-z0-9]*)\.(csv|ya?ml)$/.exec(written) ?? []
    if (name === undefined) {
      if (/\.(csv|ya?ml)$/.test(written)) {
        const remedy = "A rule's file is named as the rule: letters and digits, such as place.csv."
        faults.push({ file, line: 1, says: `"${written}" names no rule`, remedy })
      }
      continue
    }
    if (Object.hasOwn(mappings, name)) {
      faults.push({ file, line: 1, says: `the rule ${name} has two files`, remedy: "Remove one of them." })
      continue
    }
    const source = await reader.textOr(join(inside, written), longestRules)
    if (typeof source !== "string") {
      faults.push(source)
      continue
    }
    const read = readRuleFile(source, format === "csv" ? "csv" : "yaml")
    if ("faults" in read) faults.push(...read.faults.map((fault) => ({ file, ...fault })))
    else mappings[name] = read.mapping
  }
  return { mappings, faults }
}

/** The texts under `texts/`: each file a mapping of names to texts. */
async function readTexts(reader: FolderReader): Promise<{ texts: Texts; faults: Fault[] }> {
  const inside = join(reader.folder, "texts")
  const found = await readdir(inside).catch(() => [])
  const texts: Texts = {}
  const faults: Fault[] = []
  for (const written of found.filter((name) => /\.ya?ml$/.test(name)).sort()) {
    const source = await reader.textOr(join(inside, written), longestTexts)
    if (typeof source !== "string") {
      faults.push(source)
      continue
    }
    const file = shownPath(join(inside, written))
    const read = readTextFile(source, file)
    if ("faults" in read) {
      faults.push(...read.faults)
      continue
    }
    for (const [name, text] of Object.entries(read.texts)) {
      if (Object.hasOwn(texts, name))
        faults.push({
          file,
          line: 1,
          says: `the text ${name} stands in another file too`,
          remedy: "Remove one of them.",
        })
      texts[name] = text
    }
  }
  return { texts, faults }
}

/** The iCalendar files of the folder, at its top or under `hours/`, by the names that hours know them by. */
async function readCalendars(reader: FolderReader): Promise<{ files: { [name: string]: string }; faults: Fault[] }> {
  const { folder } = reader
  const files: { [name: string]: string } = {}
  const faults: Fault[] = []
  for (const inside of ["", "hours/"])
    for (const written of await readdir(join(folder, inside)).catch(() => [])) {
      if (!/\.ics$/i.test(written)) continue
      const source = await reader.textOr(join(folder, inside, written), longestCalendar)
      if (typeof source === "string") files[inside + written] = source
      else faults.push(source)
    }
  return { files, faults }
}

/** Characters of all files that travel with a release. */
const longestFiles = 2_000_000

/** The texts under `files/`, by their paths in it: they travel with the release, and handlers read them by that name. */
async function readFilesOf(reader: FolderReader): Promise<{ files: { [name: string]: string }; faults: Fault[] }> {
  const inside = join(reader.folder, "files")
  const found = await readdir(inside, { recursive: true, withFileTypes: true }).catch(() => [])
  const files: { [name: string]: string } = {}
  const faults: Fault[] = []
  let room = longestFiles
  for (const entry of found.filter((one) => one.isFile() && !one.name.startsWith(".")).sort(byPath)) {
    const path = join(entry.parentPath, entry.name)
    const source = await reader.textOr(path, room)
    if (typeof source !== "string") {
      const remedy = `All of files/ may have ${longestFiles} characters. ${source.remedy ?? ""}`.trim()
      faults.push({ ...source, remedy })
      continue
    }
    room -= source.length
    files[relative(inside, path).replaceAll("\\", "/")] = source
  }
  return { files, faults }
}

const byPath = (one: { parentPath: string; name: string }, other: { parentPath: string; name: string }) =>
  join(one.parentPath, one.name) < join(other.parentPath, other.name) ? -1 : 1

/** Folders below the bot's own in which texts are looked for, and characters of all of them. */
const deepestDocuments = 4
const longestDocuments = 4_000_000

/** The Markdown and plain texts of the folder, by their paths in it: what handlers name of them travels with the release. */
async function readDocuments(reader: FolderReader): Promise<{ files: { [path: string]: string }; faults: Fault[] }> {
  const { folder } = reader
  const files: { [path: string]: string } = {}
  const faults: Fault[] = []
  let room = longestDocuments
  const walk = async (inside: string, depth: number): Promise<void> => {
    const found = await readdir(inside, { withFileTypes: true }).catch(() => [])
    for (const entry of found.sort((one, other) => (one.name < other.name ? -1 : 1))) {
      const path = join(inside, entry.name)
      if (entry.name.startsWith(".") || entry.name === "node_modules") continue
      if (entry.isDirectory() && depth < deepestDocuments) await walk(path, depth + 1)
      if (!entry.isFile() || !/\.(md|txt)$/i.test(entry.name)) continue
      const source = await reader.textOr(path, room)
      if (typeof source !== "string") faults.push(source)
      else {
        room -= source.length
        files[relative(folder, path).replaceAll("\\", "/")] = source
      }
    }
  }
  await walk(folder, 0)
  return { files, faults }
}

/** Calls back, at most ten times a second, when something in the folder was saved. Gives what ends it. */
export function followFolder(folder: string, changed: () => void): () => void {
  let timer: NodeJS.Timeout | undefined
  // Not node's own watcher: it loses a file that an editor saves by putting a new one in its place.
  const ignored = (path: string) => /(^|\/)(node_modules|\.[^/]+)(\/|$)/.test(relative(folder, path))
  const watcher = watch(folder, { ignoreInitial: true, ignored })
  watcher.on("all", () => {
    clearTimeout(timer)
    timer = setTimeout(changed, 100)
  })
  watcher.on("error", () => undefined)
  return () => {
    clearTimeout(timer)
    void watcher.close()
  }
}

/** The files of code in a folder, by their names. */
async function codeFiles(inside: string): Promise<Map<string, string>> {
  const names = await readdir(inside).catch(() => [])
  const files = new Map<string, string>()
  for (const name of names.sort()) {
    const match = /^([A-Za-z0-9_-]+)\.(ts|mts|js|mjs)$/.exec(name)
    if (match && (await stat(join(inside, name))).isFile()) files.set(match[1]!, join(inside, name))
  }
  return files
}

async function bundleHandlers(
  reader: FolderReader,
  files: Map<string, string>,
  sdk: string,
  {
    schema,
    files: alongside,
    tools,
  }: { schema: string | undefined; files: { [name: string]: string }; tools: Map<string, string> },
): Promise<{ code: string | null } | { faults: Fault[] }> {
  if (files.size === 0 && tools.size === 0 && schema === undefined) return { code: null }
  const { folder } = reader
  const libraries = schema === undefined && tools.size === 0 ? {} : schemaLibraries(folder)
  Object.values(libraries).forEach((file) => reader.alsoTake(file))
  const imports = [...files.values()].map((file, at) => `import h${at} from ${JSON.stringify(resolve(file))}`)
  const entries = [...files.keys()].map((name, at) => `  ${JSON.stringify(name)}: { default: h${at} },`)
  if (schema !== undefined) entries.push(schemaEntry)
  imports.push(...toolImports(tools))
  entries.push(...toolEntries(tools))
  try {
    const built = await build({
      stdin: {
        contents: `${imports.join("\n")}\n${schema ?? ""}\nexport const handlers = {\n${entries.join("\n")}\n}\nexport const files = ${JSON.stringify(alongside)}\n`,
        resolveDir: folder,
        sourcefile: "handlers",
        loader: "js",
      },
      bundle: true,
      write: false,
      platform: "node",
      format: "esm",
      target: "node20",
      sourcemap: "inline",
      // So that a stack trace names the author's own files, wherever the bundle is written to; hosts take the word off.
      sourceRoot: `${folderWord}/`,
      sourcesContent: false,
      absWorkingDir: resolve(folder),
      outfile: join(resolve(folder), "bundle.mjs"),
      alias: { wobbet: sdk, ...libraries },
      plugins: [reader.plugin()],
      logLevel: "silent",
      banner: {
        js: 'import { createRequire as __requireFor } from "node:module"; const require = __requireFor(import.meta.url);',
      },
    })
    return { code: built.outputFiles[0]!.text }
  } catch (error) {
    const { errors } = error as { errors?: EsbuildMessage[] }
    if (!errors) throw error
    return { faults: errors.map((error) => faultOf(error, reader, files)) }
  }
}

function faultOf(error: EsbuildMessage, reader: FolderReader, files: Map<string, string>): Fault {
  const { folder } = reader
  if (error.detail instanceof NotRead) return error.detail.fault
  // The bundler reads settings of packages by itself, and what it says of them may quote what stands there.
  if (error.location && !reader.mayQuote(error.location.file))
    return new NotRead(resolve(folder, error.location.file), "it cannot be read as code", "Take out what imports it.")
      .fault
  const missing = /No matching export in "(.+?)" for import "default"/.exec(error.text)
  if (missing) {
    const remedy = 'Write "export default handler(async ({ message }) => …)", with handler imported from "wobbet".'
    return { file: shownPath(join(folder, missing[1]!)), line: 1, says: "the file has no default export", remedy }
  }
  const { location } = error
  const remedy = remedyFor(error)
  return {
    file: location ? shownPath(resolve(folder, location.file)) : shownPath([...files.values()][0] ?? folder),
    ...(location ? { line: location.line, column: location.column + 1 } : {}),
    says: error.text,
    ...(remedy ? { remedy } : {}),
  }
}

/** What to write instead, in words. */
function remedyFor({ text, location }: EsbuildMessage): string | undefined {
  const unresolved = /Could not resolve "(.+?)"/.exec(text)?.[1]
  if (unresolved?.startsWith(".")) {
    return "Is the path right? Files of the folder are named relative to the file that imports them."
  }
  if (unresolved) return `Run "npm install ${unresolved}" in the bot's folder, or correct the name.`
  if (/end of file|Unterminated/.test(text))
    return "Something opened before this is not closed: a bracket, a brace or a quote."
  const expected = /^Expected "(.+?)" but found "(.+?)"/.exec(text)
  if (expected) return `Write ${expected[1]} before ${expected[2]}, or take out ${expected[2]}.`
  const unnamed = /No matching export in "(.+?)" for import "(.+?)"/.exec(text)
  if (unnamed) return `Export ${unnamed[2]} in ${unnamed[1]}, or correct the name.`
  if (!location?.lineText) return undefined
  return `The line reads: ${location.lineText.trim()}${location.suggestion ? ` Write: ${location.suggestion}` : ""}`
}

/** A handler file that throws as soon as it is loaded. */
export function faultOfLoading(error: HandlerError, folder: string): Fault {
  const inside = /(?:^|[\s(])([\w./-]+\.[mc]?[tj]s):(\d+):(\d+)/.exec(
    error.stack?.split("\n").slice(1).join("\n") ?? "",
  )
  return {
    file: shownPath(join(folder, inside ? inside[1]! : "handlers")),
    ...(inside ? { line: Number(inside[2]), column: Number(inside[3]) } : {}),
    says: `loading the handlers failed: ${error.name}: ${error.message}`,
    remedy: "Code outside the handler runs once, when the file is loaded; it must not throw.",
  }
}

/** One fault on a line of its own, as editors can jump to. */
export function faultLine(fault: Fault): string {
  const where = [fault.file, fault.line, fault.column].filter((part) => part !== undefined).join(":")
  return `${where}  ${fault.says}.${fault.remedy ? ` ${fault.remedy}` : ""}`
}
