import { createHash } from "node:crypto"

/** A call as the journal keeps it: what its intake will hold. Secrets are taken out before, as for the database. */
export interface JournalEntry {
  id: string
  channel: string
  method: string
  address: string
  headers: { [name: string]: string }
  /** Base64. */
  body: string
  /** By what it was found genuine. */
  by: string
  answered: number
  receivedAt: string
}

/** A file of the journal, as its name tells. */
export interface JournalFile {
  name: string
  /** Its place among all files of the folder: a file made later has a higher number, whatever the clock says. */
  sequence: number
  /** The process that wrote it. */
  writer: string
  /**
   * `open`: its writer writes it. `sealed`: nobody writes it any more. `reading`: its holder reads it in. `kept`: what
   * could be read of it has been read in; a person decides about the rest.
   */
  state: "open" | "sealed" | "reading" | "kept"
  /** The process whose file it is now; nobody's where that has ended or there is none. */
  holder: string | undefined
}

const nameShape = /^(\d{16})~([^~]+)~(open|sealed|reading|kept)(?:~([^~]+))?$/
/** As versions up to 0.13.1 named theirs: by the clock, and `.broken` where they could not read all of it. */
const earlierShape = /^(\d{14})-([^~]+)\.calls(\.broken)?$/

/** A file by its name; undefined for what is not the journal's. */
export function fileNamed(name: string): JournalFile | undefined {
  const named = nameShape.exec(name)
  if (named) {
    const state = named[3] as JournalFile["state"]
    const writer = named[2]!
    const holder = state === "reading" ? named[4] : state === "kept" ? undefined : writer
    return { name, sequence: Number(named[1]), writer, state, holder }
  }
  const earlier = earlierShape.exec(name)
  if (!earlier) return undefined
  const [, stamp, writer, broken] = earlier
  const file = { name, sequence: Number(stamp), writer: writer! }
  // An earlier version looks at no broken file again: anybody may take it.
  return broken ? { ...file, state: "sealed", holder: undefined } : { ...file, state: "open", holder: writer }
}

/** What a file is called in another state. Two files never have one name: it keeps its writer and number. */
export function nameIn(file: Omit<JournalFile, "name">): string {
  const number = String(file.sequence).padStart(16, "0")
  return [number, file.writer, file.state, ...(file.state === "reading" ? [file.holder] : [])].join("~")
}

/** What a file holds. */
export interface JournalContent {
  entries: JournalEntry[]
  /** How many stretches of it, with something whole behind them or a line's end, cannot be read. */
  damaged: number
  /** Bytes of a last line that was never finished: its caller had no answer. */
  torn: number
}

/** An entry as a line: its length in bytes and its checksum before it. */
export function lineOf(entry: JournalEntry): string {
  const json = JSON.stringify(entry)
  return `call ${Buffer.byteLength(json)} ${digest(json)} ${json}\n`
}

/** Reads what is whole in a file, whatever stands between. */
export function contentOf(file: Buffer): JournalContent {
  const content: JournalContent = { entries: [], damaged: 0, torn: 0 }
  for (let at = 0; at < file.length;) {
    const found = entryAt(file, at) ?? nextEntry(file, at)
    if (!found) {
      if (file.at(-1) === newline) content.damaged++
      else content.torn = file.length - at
      return content
    }
    if (found.from > at) content.damaged++
    content.entries.push(found.entry)
    at = found.to
  }
  return content
}

interface Found {
  entry: JournalEntry
  from: number
  to: number
}

const newline = 10
/** How an entry begins; those of versions up to 0.13.1 have no length. */
const beginning = /(?:call (\d{1,10}) )?([0-9a-f]{16}) (?=\{)/
const longestBeginning = 40

function entryAt(file: Buffer, at: number): Found | undefined {
  const begun = beginning.exec(file.toString("latin1", at, at + longestBeginning))
  if (begun?.index !== 0) return undefined
  const from = at + begun[0].length
  const end = begun[1] === undefined ? file.indexOf(newline, from) : from + Number(begun[1])
  if (end < from || file[end] !== newline) return undefined
  const json = file.subarray(from, end)
  if (digest(json) !== begun[2]) return undefined
  return { entry: JSON.parse(json.toString("utf8")) as JournalEntry, from: at, to: end + 1 }
}

/** The first whole entry behind a place where none begins: half a line may stand before it. */
function nextEntry(file: Buffer, behind: number): Found | undefined {
  const text = file.toString("latin1", behind)
  for (const { index } of text.matchAll(new RegExp(beginning, "g"))) {
    const found = entryAt(file, behind + index)
    if (found) return found
  }
  return undefined
}

function digest(json: string | Buffer): string {
  return createHash("sha256").update(json).digest("hex").slice(0, 16)
}
