// The directions in which rooms may import each other, as a lint rule.
import { dirname, relative, resolve, sep } from "node:path"
import { fileURLToPath } from "node:url"

const source = resolve(fileURLToPath(new URL("../src", import.meta.url)))

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

/** Packages that only one room may use. */
const keptFor = { knex: "store", pg: "store", react: "console" }

const roomOf = (file) => {
  const [room] = relative(source, file).split(sep)
  return room in rooms ? room : undefined
}

export const roomsRule = {
  meta: { type: "problem", docs: { description: "Rooms import in one direction only." }, schema: [] },
  create(context) {
    const from = roomOf(context.filename)
    if (!from) return {}
    const check = (node) => {
      const name = node.source?.value
      if (typeof name !== "string") return
      if (!name.startsWith(".")) {
        const keeper = [keptFor[name.split("/")[0]] ?? []].flat()
        const here = relative(source, context.filename)
        if (keeper.length > 0 && !keeper.some((one) => here.startsWith(one))) {
          context.report({ node, message: `Only ${keeper.join(" and ")} may use "${name}": ${from} goes through it.` })
        }
        if (from === "core" && /^(node:)?(fs|net|http|https|child_process|worker_threads|timers|os)(\/|$)/.test(name)) {
          context.report({ node, message: `core computes and does nothing else: it may not import "${name}".` })
        }
        return
      }
      const to = roomOf(resolve(dirname(context.filename), name))
      if (!to || to === from || rooms[from].includes(to)) return
      context.report({
        node,
        message: `${from} may not import from ${to}. It may import from: ${rooms[from].join(", ") || "no other room"}.`,
      })
    }
    return {
      ImportDeclaration: check,
      ExportNamedDeclaration: check,
      ExportAllDeclaration: check,
      ImportExpression: check,
    }
  },
}
