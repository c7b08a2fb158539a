// Draws how the code is laid out, from its own imports: docs/code-layout.svg, and the list of rooms in
// docs/code-layout.md. `node scripts/layout.mjs` writes both; with --check it only says whether they are as they should be.
import { readFileSync, writeFileSync } from "node:fs"
import { join, relative, resolve, sep } from "node:path"
import { fileURLToPath } from "node:url"
import { engineRoomOf, engineRooms, importsOf, rooms } from "./rooms.mjs"

const root = resolve(fileURLToPath(new URL("..", import.meta.url)))
const source = join(root, "src")

/** The rooms of `src`, from the top down. */
const houses = [["cli", "console"], ["service", "standins"], ["engine", "client"], ["store"], ["sdk"], ["core"]]

const imports = new Map([...importsOf(["src"])].filter(([file]) => !file.endsWith(".test.ts")))

/** Rooms with the number of their files, and an arrow for each pair of which one uses the other. */
function structure(roomOf) {
  const rooms = new Map()
  const arrows = new Set()
  for (const [file, wanted] of imports) {
    const from = roomOf(file)
    if (from === undefined) continue
    rooms.set(from, (rooms.get(from) ?? 0) + 1)
    for (const to of wanted.map(roomOf)) {
      if (to === undefined || to === from) continue
      arrows.add(`${from} ${to}`)
    }
  }
  const pairs = [...arrows].sort().map((pair) => pair.split(" "))
  return { rooms, arrows: pairs.map(([from, to]) => ({ from, to })) }
}

const house = structure((file) => {
  const [room] = relative(source, file).split(sep)
  return room in rooms ? room : undefined
})
const engine = structure((file) => {
  const room = engineRoomOf(file)
  return room && room.level !== -1 ? room.name : undefined
})

const box = { width: 148, height: 44, across: 28, down: 46 }

/** One drawing: rows of rooms, every arrow running down. */
function drawing(rows, { rooms, arrows }, title, left) {
  const places = new Map()
  const widest = Math.max(...rows.map((row) => row.length))
  const width = widest * (box.width + box.across) - box.across
  rows.forEach((row, level) => {
    const own = row.length * (box.width + box.across) - box.across
    row.forEach((room, at) => {
      places.set(room, {
        x: left + (width - own) / 2 + at * (box.width + box.across),
        y: 56 + level * (box.height + box.down),
        level,
      })
    })
  })
  const lines = arrows.map(({ from, to }) => {
    const [a, b] = [places.get(from), places.get(to)]
    const [x1, y1, x2, y2] = [a.x + box.width / 2, a.y + box.height, b.x + box.width / 2, b.y - 5]
    const bend = Math.max(18, (y2 - y1) / 2)
    const up = b.level <= a.level
    return `<path d="M${x1} ${y1}C${x1} ${y1 + bend} ${x2} ${y2 - bend} ${x2} ${y2}" class="${up ? "up" : "down"}" stroke-width="1.3" marker-end="url(#end)"><title>${from} uses ${to}</title></path>`
  })
  const boxes = [...places].map(([room, { x, y }]) => {
    const count = rooms.get(room) ?? 0
    const files = room.endsWith(".ts") ? "a file" : `${count} file${count === 1 ? "" : "s"}`
    return `<g><rect x="${x}" y="${y}" width="${box.width}" height="${box.height}" rx="6"/><text x="${x + box.width / 2}" y="${y + 19}" class="name">${room.replace(/\.ts$/, "")}</text><text x="${x + box.width / 2}" y="${y + 35}" class="files">${files}</text></g>`
  })
  const heading = `<text x="${left + width / 2}" y="30" class="title">${title}</text>`
  return { width, height: 56 + rows.length * (box.height + box.down), marks: [heading, ...lines, ...boxes] }
}

function svg() {
  const first = drawing(houses, house, "src", 24)
  const second = drawing(engineRooms, engine, "src/engine", first.width + 96)
  const width = first.width + second.width + 120
  const height = Math.max(first.height, second.height)
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 ${width} ${height}" width="${width}" height="${height}" role="img" aria-label="The rooms of the code, and which uses which">
<style>
svg{background:#EEF2F1;font-family:system-ui,sans-serif}
rect{fill:#fff;stroke:#12332E;stroke-width:1.2}
path{fill:none;stroke:#12332E;opacity:.42}
path.up{stroke:#7B2D5B;opacity:1}
text{fill:#12332E;text-anchor:middle}
.name{font-size:14px;font-weight:600}.files{font-size:11px;opacity:.75}.title{font-size:15px;font-weight:600}
</style>
<defs><marker id="end" viewBox="0 0 8 8" refX="6" refY="4" markerWidth="6" markerHeight="6" markerUnits="userSpaceOnUse" orient="auto"><path d="M0 0L8 4L0 8z" style="fill:#12332E;stroke:none;opacity:1"/></marker></defs>
${[...first.marks, ...second.marks].join("\n")}
</svg>
`
}

/** What each room is for, as its README-to-be would begin. */
const about = {
  cli: "the command line, one file a command",
  console: "the pages, in React",
  service: "Fastify: inlets, API, live stream, the console's files",
  client: "the API's description, and the client that command line, console and tests use",
  standins: "simulated providers; they share nothing with `core`",
  engine: "performs: `core` and `store` and the network, in rooms of its own",
  store: "PostgreSQL; nothing else speaks SQL",
  sdk: 'what a bot\'s author imports as "wobbet"',
  core: "computes, and does nothing else",
  "desk.ts": "what people and applications do by hand",
  "engine.ts": "puts everything together, and nothing more",
  care: "looking after channels: checks, reachability, profiles, views",
  turns: "claims, grouping, limits, the decision, the commit",
  inlet: "calls in: read, kept, answered; refused calls, journal, polling, forwarding, samples",
  sender: "the line of each conversation: pace, calls, doubts, outcomes, alerts",
  timers: "times that interviews wait for, put into their lines",
  notices: "what applications tell, and whom",
  relays: "what is said in one place, shown in another",
  models: "models asked in rounds, with facts and tools, within limits",
  elsewhere: "endpoints and models asked, and turns lent to workers at queues",
  replies: "from what a handler says to messages and rendered calls",
  handlers: "the contract, a registry, one file a kind of handler; releases, bot folder, hosts",
  media: "what people sent, fetched; what is sent, brought to the provider",
  people: "who is who, and which place holds which conversation",
  "identities.ts": "who a channel is at its provider",
  calls: "described calls made real; downloads",
  "channels.ts": "all channels, with their secrets opened",
  process: "what a process does for itself: liveness, housekeeping, repeated jobs",
  "seal.ts": "secrets sealed, and turned into fingerprints",
  "trouble.ts": "the catalogue of what can be asked for and not be had",
  "groupCommit.ts": "many items kept in one go",
}

function list(rows, { rooms }, prefix) {
  return rows
    .flat()
    .map(
      (room) =>
        `| \`${prefix}${room.endsWith(".ts") ? room : `${room}/`}\` | ${about[room]} | ${rooms.get(room) ?? 0} |`,
    )
    .join("\n")
}

function page(before) {
  const part = (name, text) => (page) =>
    page.replace(
      new RegExp(`(<!-- ${name} -->\n)[\\s\\S]*?(\n<!-- end -->)`),
      (_all, open, close) => open + text + close,
    )
  const head = "\n| room | what it holds | files |\n| --- | --- | --: |\n"
  return [
    part("rooms", `${head}${list(houses, house, "src/")}\n`),
    part("engine", `${head}${list(engineRooms, engine, "src/engine/")}\n`),
  ].reduce((page, change) => change(page), before)
}

const { format, resolveConfig } = await import("prettier")
const files = { svg: join(root, "docs/code-layout.svg"), page: join(root, "docs/code-layout.md") }
const before = readFileSync(files.page, "utf8")
const wanted = {
  svg: svg(),
  page: await format(page(before), { ...(await resolveConfig(files.page)), filepath: files.page }),
}
if (process.argv.includes("--check")) {
  const stale = Object.entries(files).filter(([name, file]) => {
    try {
      return readFileSync(file, "utf8") !== wanted[name]
    } catch {
      return true
    }
  })
  if (stale.length > 0) {
    console.error(
      `${stale.map(([, file]) => relative(root, file)).join(" and ")} is not as the code is: run node scripts/layout.mjs.`,
    )
    process.exit(1)
  }
} else {
  writeFileSync(files.svg, wanted.svg)
  writeFileSync(files.page, wanted.page)
}
