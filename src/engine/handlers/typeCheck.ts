import { existsSync } from "node:fs"
import { createRequire } from "node:module"
import { dirname, join, resolve } from "node:path"
import type { CompilerHost, CompilerOptions, Diagnostic, SourceFile } from "typescript"
import type { Fault } from "../../core/routing/bot.ts"
import { schemaLibraries } from "./stateSchema.ts"
import { shownPath } from "./shownPath.ts"

/**
 * What TypeScript has to say of a bot folder's handlers, by the SDK's own declaration. A folder with a `tsconfig.json` is
 * checked by it. Takes a second or two of the processor: for a command, not for the service.
 *
 * @param declaration what `import … from "wobbet"` stands for
 */
export async function typeFaults(folder: string, files: readonly string[], declaration: string): Promise<Fault[]> {
  const typed = files.filter((file) => /\.m?ts$/.test(file))
  if (typed.length === 0) return []
  const { default: ts } = await import("typescript")
  const { options, faults } = await optionsOf(folder, declaration)
  const program = ts.createProgram(
    typed.map((file) => resolve(file)),
    options,
    await hostOf(options),
  )
  const found = [
    ...faults,
    ...typed.flatMap((file) => {
      const source = program.getSourceFile(resolve(file))
      return [...program.getSyntacticDiagnostics(source), ...program.getSemanticDiagnostics(source)]
    }),
    // Files of the folder that the handlers import.
    ...program
      .getSourceFiles()
      .filter(({ fileName }) => isOwn(fileName, folder) && !typed.some((file) => resolve(file) === fileName))
      .flatMap((source) => program.getSemanticDiagnostics(source)),
  ]
  return found.map((diagnostic) => faultOf(diagnostic, folder))
}

/** What was read of TypeScript's own declarations and of packages, by the settings it was read with: they stay as they are. */
const known = new Map<string, SourceFile | undefined>()

/** Reads a package's declarations once a process: they take two thirds of the time. */
async function hostOf(options: CompilerOptions): Promise<CompilerHost> {
  const { default: ts } = await import("typescript")
  const host = ts.createCompilerHost(options)
  const settings = String(ts.createDocumentRegistry().getKeyForCompilationSettings(options))
  const read = host.getSourceFile.bind(host)
  host.getSourceFile = (file, ...given) => {
    if (!file.includes("/node_modules/")) return read(file, ...given)
    const key = `${settings} ${file}`
    if (!known.has(key)) known.set(key, read(file, ...given))
    return known.get(key)
  }
  return host
}

function isOwn(file: string, folder: string): boolean {
  return file.startsWith(`${resolve(folder)}/`) && !file.includes("/node_modules/")
}

async function optionsOf(
  folder: string,
  declaration: string,
): Promise<{ options: CompilerOptions; faults: Diagnostic[] }> {
  const { default: ts } = await import("typescript")
  const file = join(resolve(folder), "tsconfig.json")
  const own = existsSync(file)
    ? ts.parseJsonConfigFileContent(ts.readConfigFile(file, ts.sys.readFile).config ?? {}, ts.sys, resolve(folder))
    : undefined
  return {
    faults: own?.errors.filter(({ code }) => code !== noInputs) ?? [],
    options: {
      target: ts.ScriptTarget.ES2023,
      lib: ["lib.es2023.d.ts"],
      module: ts.ModuleKind.ESNext,
      moduleResolution: ts.ModuleResolutionKind.Bundler,
      strict: true,
      types: ["node"],
      typeRoots: [join(dirname(typesOfNode()), "..")],
      ...own?.options,
      resolveJsonModule: true,
      allowImportingTsExtensions: true,
      skipLibCheck: true,
      noEmit: true,
      paths: { ...own?.options.paths, wobbet: [declaration], ...typesOf(schemaLibraries(folder)) },
    },
  }
}

/** Where TypeScript finds what is known of these modules: beside them. */
function typesOf(libraries: { [name: string]: string }): { [name: string]: string[] } {
  return Object.fromEntries(
    Object.entries(libraries).map(([name, file]) => [name, [file.replace(/\.[cm]?js$/, ".d.ts")]]),
  )
}

/** "No inputs were found": which files there are is the folder's own affair. */
const noInputs = 18003

/** Where the declarations of Node's own modules lie, from which a handler may import. */
function typesOfNode(): string {
  return createRequire(import.meta.url).resolve("@types/node/package.json")
}

function faultOf({ file, start, code, messageText }: Diagnostic, folder: string): Fault {
  const at = file && start !== undefined ? file.getLineAndCharacterOfPosition(start) : undefined
  // A long chain says the same ever more exactly: what it begins with, and what it comes to.
  let last = messageText
  while (typeof last !== "string" && last.next?.[0]) last = last.next[0]
  const remedy = remedies[code] ?? (last === messageText ? undefined : `${sentenceOf(last)}.`)
  return {
    file: shownPath(file?.fileName ?? folder),
    ...(at ? { line: at.line + 1, column: at.character + 1 } : {}),
    says: `${sentenceOf(messageText)} (TS${code})`,
    ...(remedy ? { remedy } : {}),
  }
}

/** Characters of TypeScript's words that are shown. */
const longest = 300

function sentenceOf(text: Diagnostic["messageText"]): string {
  const words = (typeof text === "string" ? text : text.messageText).replace(/\.$/, "")
  return words.length <= longest ? words : `${words.slice(0, longest)}…`
}

const remedies: { [code: number]: string } = {
  2307: 'Run "npm install" for it in the bot\'s folder, or correct the name.',
  2305: "docs/write-a-handler.md lists what the SDK has.",
  2724: "docs/write-a-handler.md lists what the SDK has.",
}
