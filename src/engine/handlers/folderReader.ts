import { constants, existsSync, lstatSync, readdirSync, readFileSync, realpathSync } from "node:fs"
import { open, readlink } from "node:fs/promises"
import { dirname, extname, isAbsolute, join, relative, resolve, sep } from "node:path"
import type { Loader, Plugin } from "esbuild"
import type { Fault } from "../../core/routing/bot.ts"
import { shownPath } from "./shownPath.ts"

/** What a bot folder is read with. */
export interface FolderSource {
  /** The file that `import … from "wobbet"` stands for. */
  sdk: string
  /** Folders outside it that it may take code from, named by whoever runs the service. */
  roots: readonly string[]
  /** Where the service keeps its keys: nothing of it is ever read for a bot. */
  home: string | undefined
}

/** Bytes of a file of code, or of another that code imports. */
const longestImport = 16_000_000

const outside = "it lies outside the bot's folder"
const takeItOut = "Take it out: nothing of the service's data directory is read for a bot."
const nameIt =
  "Move it into the folder. Code of a workspace is read once whoever runs the service names its folder with WOBBET_BOT_ROOTS."

/** What keeps a file from being read: it is shown without a word of what it holds. */
export class NotRead extends Error {
  constructor(
    readonly file: string,
    readonly says: string,
    readonly remedy: string,
  ) {
    super(`${file}: ${says}`)
  }

  get fault(): Fault {
    return { file: shownPath(this.file), line: 1, says: this.says, remedy: this.remedy }
  }
}

/**
 * Reads what is taken from a bot folder: the only way by which anything of the disk gets into a release. Whoever writes
 * the folder is not whoever runs the service: a file is taken where it really lies, behind all links, and only if that is
 * within the folder, within a `node_modules` of a folder above it, within a package of the same workspace that is linked
 * from there, or within a root that whoever runs the service has named.
 */
export class FolderReader {
  private readonly within: string[]
  private readonly home: string | undefined
  private readonly libraries: string[]
  private readonly real: string
  /** The `node_modules` of the folders above it, and the packages that are linked from there, once they were looked for. */
  private readonly above: string[]
  private linked: string[] | undefined

  constructor(
    readonly folder: string,
    { roots, home, sdk }: FolderSource,
  ) {
    const real = (this.real = realOf(folder))
    this.above = ancestors(dirname(real)).map((one) => join(one, "node_modules"))
    this.within = [real, ...this.above.filter(existsSync).map(realOf), ...roots.map(realOf)]
    this.libraries = [realOf(sdk)]
    this.home = home === undefined ? undefined : realOf(home)
  }

  /** Lets a file of the service's own be imported: what is made with the SDK stands on it. */
  alsoTake(file: string): void {
    this.libraries.push(dirname(realOf(file)))
    const [, packages] = /^(.*\/node_modules)\//.exec(realOf(file)) ?? []
    if (packages !== undefined) this.libraries.push(packages)
  }

  /** Whether a file may be taken, by where it really lies. */
  private takes(real: string): boolean {
    if (this.libraries.some((one) => isWithin(real, one))) return true
    if (this.home !== undefined && isWithin(real, this.home)) {
      // A folder that lies in the data directory is read all the same, and nothing beside it.
      return this.real !== this.home && isWithin(this.real, this.home) && isWithin(real, this.real)
    }
    if (this.within.some((one) => isWithin(real, one))) return true
    this.linked ??= this.above.flatMap((packages) => linkedPackages(packages, this.real))
    return this.linked.some((one) => isWithin(real, one))
  }

  private refused(path: string, real: string): NotRead {
    const isKept = this.home !== undefined && isWithin(real, this.home)
    return new NotRead(path, outside, isKept ? takeItOut : nameIt)
  }

  /** A file's text. Throws NotRead. */
  async text(path: string, longest: number): Promise<string> {
    return (await this.bytes(path, longest)).toString("utf8")
  }

  /** A file's text, or what keeps it from being read. */
  async textOr(path: string, longest: number): Promise<string | Fault> {
    return this.text(path, longest).catch((error: unknown) => {
      if (error instanceof NotRead) return error.fault
      throw error
    })
  }

  /** A file's content. Throws NotRead. */
  async bytes(path: string, longest: number): Promise<Buffer> {
    const fails = (says: string, remedy: string) => new NotRead(path, says, remedy)
    let real: string
    try {
      real = realpathSync(path)
    } catch (error) {
      throw fails(`the file cannot be read (${codeOf(error)})`, "Look at its rights, and where its link leads.")
    }
    if (!this.takes(real)) throw this.refused(path, real)
    // A pipe would be waited for without end.
    const handle = await open(real, constants.O_RDONLY | constants.O_NONBLOCK).catch((error: unknown) => {
      throw fails(`the file cannot be read (${codeOf(error)})`, "Look at its rights.")
    })
    try {
      const found = await handle.stat()
      if (!found.isFile()) throw fails("it is no file, but a folder, a device or a pipe", "Put a file in its place.")
      // It may have been changed for another since it was looked at; where the system tells, that is seen.
      const opened = await readlink(`/proc/self/fd/${handle.fd}`).catch(() => real)
      if (!this.takes(opened)) throw this.refused(path, opened)
      if (found.size > longest)
        throw fails(`the file has ${found.size} bytes; ${longest} are read`, "Write less into it.")
      const content = await handle.readFile()
      // It may have grown since, and what says it is empty may have no end.
      if (content.length > longest) throw fails(`the file has more than ${longest} bytes`, "Write less into it.")
      return content
    } finally {
      await handle.close()
    }
  }

  /** Lets the bundler read by the same rules, whatever names the file: an import, a package, an alias of a tsconfig. */
  plugin(): Plugin {
    return {
      name: "what may be read",
      setup: (build) => {
        build.onLoad({ filter: /^/, namespace: "file" }, async ({ path, with: attributes }) => {
          const loader = loaderOf(path, attributes)
          try {
            if (loader === undefined) {
              if (this.takes(realOf(path))) return undefined
              throw this.refused(path, realOf(path))
            }
            return { contents: await this.bytes(path, longestImport), loader, resolveDir: dirname(path) }
          } catch (error) {
            if (!(error instanceof NotRead)) throw error
            return { errors: [{ text: `${shownPath(path)}: ${error.says}`, detail: error }] }
          }
        })
      },
    }
  }

  /** Whether what the bundler says of a file may be shown: its words may quote what stands there. */
  mayQuote(file: string): boolean {
    const path = isAbsolute(file) ? file : resolve(this.folder, file)
    return this.takes(realOf(path))
  }
}

const loaders: { [extension: string]: Loader } = {
  ".js": "js",
  ".mjs": "js",
  ".cjs": "js",
  ".jsx": "jsx",
  ".ts": "ts",
  ".mts": "ts",
  ".cts": "ts",
  ".tsx": "tsx",
  ".json": "json",
  ".txt": "text",
  ".css": "css",
}

/** How the bundler is to take a file; undefined where it refuses it by itself, without reading it. */
function loaderOf(path: string, attributes: { [name: string]: string }): Loader | undefined {
  const { type } = attributes
  if (type === "text") return "text"
  if (type === "bytes") return "binary"
  if (type === "json") return "json"
  return loaders[extname(path).toLowerCase()]
}

/** Where a path really leads; as it is where there is nothing. */
function realOf(path: string): string {
  try {
    return realpathSync(path)
  } catch {
    return resolve(path)
  }
}

function isWithin(path: string, folder: string): boolean {
  const way = relative(folder, path)
  return way === "" || (way !== ".." && !way.startsWith(`..${sep}`) && !isAbsolute(way))
}

function ancestors(folder: string): string[] {
  const above = dirname(folder)
  return above === folder ? [folder] : [folder, ...ancestors(above)]
}

/**
 * Where the packages of a workspace lie that its `node_modules` links: each within the workspace, named in its
 * package.json as its link is, and not around the bot's folder.
 */
function linkedPackages(packages: string, folder: string): string[] {
  const workspace = dirname(packages)
  // What lies at the root of the disk is no workspace: everything is within it.
  if (dirname(workspace) === workspace) return []
  const linksIn = (scope: string): string[] =>
    namesIn(join(packages, scope)).flatMap((name) => {
      if (scope === "" && name.startsWith("@")) return linksIn(name)
      const full = join(scope, name)
      if (!isLink(join(packages, full))) return []
      const real = realOf(join(packages, full))
      const fits = isWithin(real, workspace) && !isWithin(folder, real) && nameOfPackage(real) === full
      return fits ? [real] : []
    })
  return linksIn("")
}

function namesIn(folder: string): string[] {
  try {
    return readdirSync(folder)
  } catch {
    return []
  }
}

function isLink(path: string): boolean {
  try {
    return lstatSync(path).isSymbolicLink()
  } catch {
    return false
  }
}

function nameOfPackage(folder: string): string | undefined {
  try {
    const { name } = JSON.parse(readFileSync(join(folder, "package.json"), "utf8")) as { name?: string }
    return name
  } catch {
    return undefined
  }
}

function codeOf(error: unknown): string {
  return String((error as { code?: string }).code ?? (error as Error).message)
}
