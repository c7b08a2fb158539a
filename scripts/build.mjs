// Builds what changed: the command line and service, the handler host, the SDK, the console.
import { execFile } from "node:child_process"
import { createHash } from "node:crypto"
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, symlinkSync, writeFileSync } from "node:fs"
import { join, relative } from "node:path"
import { fileURLToPath } from "node:url"
import { promisify } from "node:util"
import { brotliCompressSync, gzipSync } from "node:zlib"

const root = fileURLToPath(new URL("..", import.meta.url))
const { version } = JSON.parse(readFileSync(join(root, "package.json"), "utf8"))
const stamps = join(root, "dist", ".stamps.json")

/** @param tests whether the build for the tests is wanted, too */
export async function build({ tests = false, say = (text) => console.log(text) } = {}) {
  mkdirSync(join(root, "dist"), { recursive: true })
  const known = existsSync(stamps) ? JSON.parse(readFileSync(stamps, "utf8")) : {}
  const lock = hashOf(["package.json", "package-lock.json", "scripts/build.mjs", "scripts/marks.mjs"])
  const service = lock + hashOf(["src", "demo", "bench"], (path) => !path.startsWith("src/console"))
  const types = lock + hashOf(["src/sdk", "src/core/message", "src/core/interview", "src/core/routing/duration.ts"])
  const pages = lock + hashOf(["src/console", "src/client", "vite.config.mjs"])
  if (known.service !== service || !existsSync(join(root, "dist/wobbet.js"))) {
    say("building the service …")
    await bundle("dist", { ...entryPoints, ...measures }, false)
    known.service = service
  }
  if (known.types !== types || !existsSync(join(root, "dist/types/sdk/index.d.ts"))) {
    say("writing the SDK's declaration …")
    await declareSdk()
    known.types = types
  }
  if (known.pages !== pages || !existsSync(join(root, "dist/console/index.html"))) {
    say("building the console …")
    await buildConsole()
    known.pages = pages
  }
  const forTests = service + hashOf([...campaignFiles, "tests/support"])
  if (tests && (known.tests !== forTests || !existsSync(join(root, "dist/faults/inside.js")))) {
    say("building the service for the tests …")
    await bundle("dist/faults", { ...testEntryPoints, campaign: "tests/faults/campaign.ts" }, true)
    known.tests = forTests
  }
  writeFileSync(stamps, JSON.stringify(known))
}

/** What the campaign is made of. */
const campaignFiles = ["campaign", "campaignKinds", "campaignFaults", "bot"].map((name) => `tests/faults/${name}.ts`)

export const entryPoints = {
  wobbet: "src/cli/main.ts",
  program: "src/cli/program.ts",
  host: "src/engine/handlers/host.ts",
  side: "src/engine/care/sideWork.ts",
  sdk: "src/sdk/index.ts",
}
/** The build for the tests: with the fault points in it, and to be run in the tests' own process. */
export const testEntryPoints = { ...entryPoints, inside: "tests/support/inside.ts" }
const measures = {
  "bench/main": "bench/main.ts",
  "bench/load": "bench/load.ts",
  "bench/handwritten": "bench/handwritten.ts",
}

/** @param plugins may change sources on the way, to build a service without one of its mechanisms. */
export async function bundle(outdir, entries, faults, plugins = []) {
  const esbuild = await import("esbuild")
  const { program, inside, ...others } = entries
  // What V8 made of another program of the same length would be taken for this one's.
  for (const name of existsSync(join(root, outdir)) ? readdirSync(join(root, outdir)) : [])
    if (/^part-.*\.js(\.map)?$|\.compiled$/.test(name)) rmSync(join(root, outdir, name))
  const common = {
    absWorkingDir: root,
    outdir,
    define: { FAULTS_BUILT: String(faults), VERSION: JSON.stringify(version) },
    bundle: true,
    // Takes out what stands behind a condition that is false for good: the fault points.
    minifySyntax: true,
    loader: { ".yaml": "text" },
    platform: "node",
    format: "esm",
    target: "node20",
    sourcemap: true,
    logLevel: "warning",
  }
  await esbuild.build({ ...common, plugins, packages: "external", entryPoints: others })
  if (!program) return
  // What is the same in every build, and made once.
  if (inside)
    for (const name of ["console", "types"])
      if (!existsSync(join(root, outdir, name))) symlinkSync(join(root, "dist", name), join(root, outdir, name))
  const { executedBanner = "", marked } = inside ? await import("./marks.mjs") : {}
  // With the packages in it, a command or a service starts in half the time: 1.2 s of processor instead of 2.3.
  const whole = {
    ...common,
    external: notInside,
    sourcesContent: false,
    plugins: [...plugins, ...(inside ? [forTests(marked)] : []), noMapsOfPackages],
  }
  if (inside)
    await esbuild.build({
      ...whole,
      entryPoints: { inside },
      splitting: true,
      chunkNames: "part-[hash]",
      banner: { js: requireInside + executedBanner },
    })
  await esbuild.build({
    ...whole,
    entryPoints: { program },
    // Of this format V8 keeps what it has compiled: see src/cli/loading.ts.
    format: "cjs",
    outExtension: { ".js": ".cjs" },
    define: { ...common.define, "import.meta.url": "$address" },
    supported: { "dynamic-import": false },
    minifyWhitespace: true,
    banner: { js: `const $address = require("node:url").pathToFileURL(__filename).href;${executedBanner}` },
  })
  const compile = join(root, "scripts/compile.mjs")
  // As people start it, and as tests do.
  for (const flags of [["--max-semi-space-size=64"], []])
    await promisify(execFile)(process.execPath, [...flags, compile, join(root, outdir)])
}

/** What has programs of its own beside it, and what packages would use if it were there. */
const notInside = [
  "esbuild",
  "typescript",
  ...["pg-native", "pg-query-stream", "cloudflare:sockets"],
  ...["better-sqlite3", "mariadb", "mariadb/callback", "mysql", "mysql2", "oracledb", "sqlite3", "tedious"],
]

/** Packages written in the older module format ask for others by `require`, and where they are. */
const requireInside = `
import { createRequire as $createRequire } from "node:module";
import { dirname as $dirname } from "node:path";
import { fileURLToPath as $fileURLToPath } from "node:url";
const require = $createRequire(import.meta.url);
const __filename = $fileURLToPath(import.meta.url);
const __dirname = $dirname(__filename);`

/** Maps are read at every start: those of packages, which nobody looks at here, are left out. */
const noMapsOfPackages = {
  name: "no maps of packages",
  setup(build) {
    const empty = Buffer.from('{"version":3,"sources":[""],"mappings":"A"}').toString("base64")
    build.onLoad({ filter: /node_modules[/\\].*\.[cm]?js$/ }, ({ path }) => ({
      contents: `${readFileSync(path, "utf8")}\n//# sourceMappingURL=data:application/json;base64,${empty}`,
      loader: "js",
    }))
  },
}

/** Sources as the tests need them: they note that they were executed, and a command may run inside the tests' process. */
const forTests = (marked) => ({
  name: "for tests",
  setup(build) {
    const shim = JSON.stringify(join(root, "tests/support/processOfRun.ts"))
    build.onLoad({ filter: /[/\\](src|demo)[/\\].*\.ts$/ }, ({ path }) => {
      if (path.includes("node_modules")) return undefined
      const name = relative(root, path)
      const source = marked(readFileSync(path, "utf8"), name)
      return {
        contents: name.startsWith("src/cli") ? `import { process } from ${shim}; ${source}` : source,
        loader: "ts",
      }
    })
  },
})

/** What a bot's author imports, as types: for `wobbet bot check`, and for editors. */
async function declareSdk() {
  const { default: ts } = await import("typescript")
  rmSync(join(root, "dist/types"), { recursive: true, force: true })
  const program = ts.createProgram([join(root, "src/sdk/index.ts")], {
    declaration: true,
    emitDeclarationOnly: true,
    allowImportingTsExtensions: true,
    outDir: join(root, "dist/types"),
    rootDir: join(root, "src"),
    module: ts.ModuleKind.ESNext,
    moduleResolution: ts.ModuleResolutionKind.Bundler,
    target: ts.ScriptTarget.ES2023,
    strict: true,
    skipLibCheck: true,
    types: ["node"],
  })
  program.emit()
}

async function buildConsole() {
  const { build: viteBuild } = await import("vite")
  rmSync(join(root, "dist/console"), { recursive: true, force: true })
  await viteBuild({ root: join(root, "src/console"), configFile: join(root, "vite.config.mjs"), logLevel: "warn" })
  compress(join(root, "dist/console"))
}

/** Beside each file the same, compressed as well as it goes: nobody waits for that at every request. */
function compress(folder) {
  for (const entry of readdirSync(folder, { withFileTypes: true, recursive: true })) {
    if (!entry.isFile() || !/\.(js|css|svg|html)$/.test(entry.name)) continue
    const path = join(entry.parentPath, entry.name)
    const content = readFileSync(path)
    writeFileSync(`${path}.br`, brotliCompressSync(content))
    writeFileSync(`${path}.gz`, gzipSync(content, { level: 9 }))
  }
}

function hashOf(paths, keep = () => true) {
  const hash = createHash("sha256")
  const walk = (path) => {
    const full = join(root, path)
    if (!existsSync(full)) return
    if (statSync(full).isDirectory()) for (const name of readdirSync(full).sort()) walk(`${path}/${name}`)
    else if (keep(path)) hash.update(path).update(readFileSync(full))
  }
  paths.forEach(walk)
  return hash.digest("hex")
}

if (process.argv[1] === fileURLToPath(import.meta.url)) await build()
