// The directions in which rooms and files may import each other, as a lint rule.
import { readdirSync, readFileSync, statSync } from "node:fs"
import { dirname, join, relative, resolve, sep } from "node:path"
import { fileURLToPath } from "node:url"

const root = resolve(fileURLToPath(new URL("..", import.meta.url)))
const source = join(root, "src")

/** Each room, and the rooms it may import from. What is not named here it may not. */
export const rooms = {
  core: [],
  store: ["core"],
  engine: ["core", "store", "sdk"],
  service: ["core", "store", "engine", "client"],
  client: [],
  cli: ["client", "service", "standins", "store"],
  console: ["client"],
  // Only the shapes of messages and replies, so that authors and Wobbet mean the same.
  sdk: ["core"],
  standins: [],
}

/**
 * The rooms of the engine, from the top down: each may use those below its line, and none beside it. A room of one file
 * is named by it.
 */
export const engineRooms = [
  ["desk.ts"],
  ["engine.ts"],
  ["care", "notices", "relays"],
  ["turns", "inlet", "timers"],
  ["sender"],
  ["replies", "elsewhere"],
  ["models"],
  ["handlers", "media", "people", "identities.ts"],
  ["calls", "channels.ts"],
  ["process", "seal.ts", "trouble.ts", "groupCommit.ts"],
]

/** Packages that only one room may use. */
const keptFor = { knex: "store", pg: "store", react: "console" }

const roomOf = (file) => {
  const [room] = relative(source, file).split(sep)
  return room in rooms ? room : undefined
}

/** The engine's room a file stands in, and how far down that is. */
export function engineRoomOf(file) {
  const [first, second] = relative(source, file).split(sep)
  if (first !== "engine" || second === undefined || second.endsWith(".test.ts")) return undefined
  const level = engineRooms.findIndex((beside) => beside.includes(second))
  return { name: second, level }
}

/** Every file of ours and the files it imports, types too. */
export function importsOf(folders = ["src", "demo", "bench", "tests"]) {
  const files = new Map()
  const walk = (path) => {
    for (const name of readdirSync(path)) {
      const file = join(path, name)
      if (statSync(file).isDirectory()) walk(file)
      else if (/\.(ts|tsx)$/.test(name)) files.set(file, importsIn(file))
    }
  }
  folders.forEach((folder) => walk(join(root, folder)))
  return files
}

function importsIn(file) {
  const found = readFileSync(file, "utf8").matchAll(/(?:from|import\()\s*"(\.[^"]+)"/g)
  return [...new Set([...found].map(([, name]) => resolve(dirname(file), name)))]
}

/** The files by which an import leads back to the file it stands in; undefined where it does not. */
export function circleThrough(imports, file, to) {
  const cameFrom = new Map([[to, undefined]])
  for (const next of cameFrom.keys()) {
    if (next === file) {
      const path = []
      for (let step = file; step !== undefined; step = cameFrom.get(step)) path.unshift(step)
      return path
    }
    for (const further of imports.get(next) ?? []) if (!cameFrom.has(further)) cameFrom.set(further, next)
  }
  return undefined
}

let graph

export const roomsRule = {
  meta: {
    type: "problem",
    docs: { description: "Rooms import in one direction only, and no files in a circle." },
    schema: [],
  },
  create(context) {
    const { filename } = context
    const from = roomOf(filename)
    graph ??= importsOf()
    const engineRoom = engineRoomOf(filename)
    if (engineRoom?.level === -1) {
      return {
        Program: (node) =>
          context.report({
            node,
            message: `The engine has no room "${engineRoom.name}": give it its place in scripts/rooms.mjs, or put the file into one there is.`,
          }),
      }
    }
    const check = (node) => {
      const name = node.source?.value
      if (typeof name !== "string") return
      if (!name.startsWith(".")) return checkPackage(node, name)
      const file = resolve(dirname(filename), name)
      checkCircle(node, file)
      if (!from) return
      const to = roomOf(file)
      if (to && to !== from && !rooms[from].includes(to)) {
        context.report({
          node,
          message: `${from} may not import from ${to}. It may import from: ${rooms[from].join(", ") || "no other room"}.`,
        })
      }
      checkEngine(node, file)
    }
    const checkPackage = (node, name) => {
      if (!from) return
      const keeper = keptFor[name.split("/")[0]]
      if (keeper && keeper !== from)
        context.report({ node, message: `Only ${keeper} may use "${name}": ${from} goes through it.` })
      if (from === "core" && /^(node:)?(fs|net|http|https|child_process|worker_threads|timers|os)(\/|$)/.test(name)) {
        context.report({ node, message: `core computes and does nothing else: it may not import "${name}".` })
      }
    }
    const checkEngine = (node, file) => {
      const to = engineRoomOf(file)
      if (!engineRoom || !to || to.level === -1 || to.name === engineRoom.name || to.level > engineRoom.level) return
      const how = to.level === engineRoom.level ? "beside" : "above"
      context.report({
        node,
        message: `engine/${engineRoom.name} may not import from engine/${to.name}, which stands ${how} it.`,
      })
    }
    const checkCircle = (node, file) => {
      if (!graph.has(filename)) return
      const circle = file === filename ? [filename] : circleThrough(graph, filename, file)
      if (!circle) return
      const names = [filename, ...circle].map((one) => relative(root, one))
      context.report({ node, message: `These files import each other in a circle: ${names.join(" → ")}.` })
    }
    return {
      ImportDeclaration: check,
      ExportNamedDeclaration: check,
      ExportAllDeclaration: check,
      ImportExpression: check,
    }
  },
}
