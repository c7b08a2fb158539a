// Sees what is missing on this machine and installs it: npm packages, and from Debian's packages PostgreSQL (and
// Chromium, Python and curl for the tests). Needs nothing but Node and npm.
import { execFileSync, spawnSync } from "node:child_process"
import { createHash } from "node:crypto"
import { existsSync, mkdirSync, readdirSync, readFileSync, writeFileSync } from "node:fs"
import { join } from "node:path"
import { fileURLToPath } from "node:url"

const root = fileURLToPath(new URL("..", import.meta.url))

/**
 * Makes everything ready, or throws an Error whose message says what to do.
 *
 * @param tests whether the build for the tests is wanted
 * @param programs that the tests run examples in other languages with
 */
export async function setUp({
  chromium = false,
  tests = false,
  programs = [],
  say = (text) => console.log(text),
} = {}) {
  const [major] = process.versions.node.split(".").map(Number)
  if (major < 20) throw new Error(`Wobbet needs Node 20 or newer; this is ${process.version}.`)
  installPackages(say)
  const missing = []
  if (process.env.DATABASE_URL === undefined && !hasPostgres()) missing.push("postgresql")
  if (chromium && !findChromium()) missing.push("chromium")
  missing.push(...programs.filter((name) => !onPath(name)))
  if (missing.length > 0) installFromDebian(missing, say)
  const { build } = await import("./build.mjs")
  await build({ tests, say })
}

function installPackages(say) {
  const wanted = createHash("sha256")
    .update(readFileSync(join(root, "package-lock.json")))
    .digest("hex")
  const stamp = join(root, "node_modules", ".wobbet-lock")
  if (existsSync(stamp) && readFileSync(stamp, "utf8") === wanted) return
  // npm's own notes tell a finished installation made by hand from an unfinished one.
  say("installing npm packages …")
  // Not "npm ci": it refuses a lock file where a registry does not carry the binaries of every other platform.
  const done = spawnSync("npm", ["install", "--no-save", "--no-fund", "--no-audit", "--loglevel=error"], {
    cwd: root,
    stdio: ["ignore", "inherit", "inherit"],
  })
  if (done.status !== 0)
    throw new Error(
      'The npm packages could not be installed (see above). Is the registry reachable? "npm install" tries again.',
    )
  mkdirSync(join(root, "node_modules"), { recursive: true })
  writeFileSync(stamp, wanted)
}

function hasPostgres() {
  const folder = "/usr/lib/postgresql"
  if (existsSync(folder) && readdirSync(folder).some((version) => existsSync(join(folder, version, "bin/postgres"))))
    return true
  return onPath("postgres") && onPath("initdb")
}

export function findChromium() {
  return ["/usr/bin/chromium", "/usr/bin/chromium-browser"].find((file) => existsSync(file))
}

function onPath(name) {
  return (process.env.PATH ?? "").split(":").some((folder) => folder && existsSync(join(folder, name)))
}

function installFromDebian(names, say) {
  const command = `apt-get install -y ${names.join(" ")}`
  const sorry = `Please install ${names.join(" and ")} first: "sudo ${command}".`
  if (!onPath("apt-get"))
    throw new Error(
      `This machine lacks ${names.join(" and ")}, and has no apt-get to install them. Install them by hand${names.includes("postgresql") ? ", or set DATABASE_URL to a PostgreSQL server of yours" : ""}.`,
    )
  const prefix = process.getuid?.() === 0 ? [] : canSudo() ? ["sudo", "-n"] : undefined
  if (!prefix) throw new Error(sorry)
  say(`installing ${names.join(" and ")} from Debian's packages …`)
  const run = (...args) => {
    const [file, ...rest] = [...prefix, ...args]
    return spawnSync(file, rest, {
      stdio: ["ignore", "ignore", "pipe"],
      env: { ...process.env, DEBIAN_FRONTEND: "noninteractive" },
    })
  }
  run("apt-get", "update", "-qq")
  const done = run("apt-get", "install", "-y", "-qq", "--no-install-recommends", ...names)
  if (done.status !== 0) throw new Error(`${sorry} (apt-get said: ${String(done.stderr).trim().split("\n").at(-1)})`)
}

function canSudo() {
  try {
    execFileSync("sudo", ["-n", "true"], { stdio: "ignore" })
    return true
  } catch {
    return false
  }
}
