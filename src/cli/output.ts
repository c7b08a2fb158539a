import Table from "cli-table3"
import colors from "picocolors"
import widthOf from "string-width"
import { railText, railWord } from "../client/rail.ts"
import { shownJson } from "../client/shown.ts"
import type { MessageView, Stop } from "../client/types.ts"

/** Prints a program's answer where `--json` was given; says whether it was. */
export function asJson(options: { json?: boolean }, value: unknown): boolean {
  if (!options.json) return false
  process.stdout.write(`${shownJson(value, 2)}\n`)
  return true
}

export function print(...lines: string[]): void {
  process.stdout.write(`${lines.join("\n")}\n`)
}

/** What a list says of its option `--wide`. */
export const wideHelp = "whole texts, however wide the terminal is"

/** Whether whole texts are asked for, however wide the terminal is. */
const wide = () => process.argv.includes("--wide")

/** Columns of the terminal; undefined where a program reads, which has no width. */
function columns(): number | undefined {
  return process.stdout.columns ?? (Number(process.env.COLUMNS) || undefined)
}

/** A column that is more than its name. */
interface Column {
  name: string
  /** Never cut: of no use unless it is whole, such as an id. */
  whole?: boolean
  /** Left out first where there is no room, since another column says the same. */
  spare?: boolean
}

/** Space between two columns. */
const between = 2
/** The least a column is cut to. */
const least = 8

/** A list, as wide as the terminal: what does not fit is cut with an ellipsis, unless `--wide` asks for all of it. */
export function table(head: (string | Column)[], rows: (string | number)[][], empty: string): void {
  if (rows.length === 0) return print(empty)
  const { kept, widths } = fitted(
    head.map((column) => (typeof column === "string" ? { name: column } : column)),
    rows.map((row) => row.map(String)),
  )
  const made = new Table({
    head: kept.map(({ name }) => colors.dim(name)),
    colWidths: widths.map((width) => width + between),
    style: { head: [], border: [], "padding-left": 0, "padding-right": between },
    chars: Object.fromEntries(borders.map((name) => [name, ""])),
  })
  made.push(...rows.map((row) => kept.map(({ at }) => String(row[at]))))
  print(made.toString().replace(/[ \t]+$/gm, ""))
}

const borders = [
  ...["top", "top-mid", "top-left", "top-right", "bottom", "bottom-mid", "bottom-left", "bottom-right"],
  ...["left", "left-mid", "mid", "mid-mid", "right", "right-mid", "middle"],
]

/** The columns there is room for, and how wide each is. */
function fitted(head: Column[], rows: string[][]): { kept: (Column & { at: number })[]; widths: number[] } {
  let kept = head.map((column, at) => ({
    ...column,
    at,
    width: Math.max(widthOf(column.name), ...rows.map((row) => widthOf(row[at] ?? ""))),
  }))
  const room = wide() ? undefined : columns()
  const over = () => kept.reduce((sum, { width }) => sum + width + between, -between) - (room ?? Infinity)
  while (over() > 0 && kept.some(({ spare }) => spare)) {
    const left = kept.findLastIndex(({ spare }) => spare)
    kept = kept.filter((_column, at) => at !== left)
  }
  for (;;) {
    const widest = kept.reduce((most, column) => (!column.whole && column.width > most.width ? column : most), {
      width: least,
    })
    if (over() <= 0 || widest.width <= least) break
    widest.width--
  }
  return { kept, widths: kept.map(({ width }) => width) }
}

/** Words that go on under themselves where the line ends. `indent` is how far in they begin. */
export function wrapped(text: string, indent: number): string {
  const width = Math.max((columns() ?? 200) - indent, 30)
  const lines = [""]
  for (const word of text.split(" ")) {
    const line = lines.at(-1)!
    if (line !== "" && line.length + 1 + word.length > width) lines.push(word)
    else lines[lines.length - 1] = line === "" ? word : `${line} ${word}`
  }
  return lines.join(`\n${" ".repeat(indent)}`)
}

/** A text in one line, cut where it is longer than a list has room for. */
export function inLine(text: string, width: number): string {
  const flat = text.replace(/\s+/g, " ").trim()
  if (wide() || widthOf(flat) <= width) return flat
  let cut = ""
  for (const letter of letters.segment(flat)) {
    if (widthOf(cut + letter.segment) > width - 1) break
    cut += letter.segment
  }
  return `${cut}…`
}
const letters = new Intl.Segmenter()

/** What is left of the line for texts, beside what always stands there; as much as is usual where nothing has a width. */
export function roomBeside(taken: number, usual: number): number {
  const room = columns()
  return room === undefined ? usual : Math.max(least, Math.min(usual, room - taken))
}

/** A text in so many columns, filled up with spaces. */
export function filled(text: string, width: number): string {
  const cut = inLine(text, width)
  return cut + " ".repeat(Math.max(0, width - widthOf(cut)))
}

export function clock(time: string): string {
  const at = new Date(time)
  const two = (value: number) => String(value).padStart(2, "0")
  return `${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`
}

export function day(time: string): string {
  return new Date(time).toISOString().slice(0, 10)
}

/** Today's times by the clock, older ones with their day. */
export function when(time: string | null | undefined): string {
  if (!time) return "–"
  const sameDay = new Date(time).toDateString() === new Date().toDateString()
  return sameDay ? clock(time) : `${day(time)} ${clock(time)}`
}

const tones = {
  good: colors.green,
  open: colors.yellow,
  "needs you": colors.red,
  stopped: colors.yellow,
  calm: colors.dim,
}

export function rail(stops: Stop[]): string {
  return tones[railWord(stops).tone](railText(stops))
}

export function word(stops: Stop[]): string {
  const { word: said, tone } = railWord(stops)
  return tones[tone](said)
}

/** Who is at the other end: by name, or by the provider's address where nobody has told one. */
export function whoOf(shown: { title?: string | null; address?: string | null; channel: string }): string {
  return shown.title ?? shown.address ?? shown.channel
}

/** What became of a message, by the same word as everywhere. */
export function messageWord(message: MessageView): string {
  return word(message.stops ?? [])
}

/** Why it stands where it stands, since when, and until when. */
export function because({ reason, since, until }: MessageView): string {
  const times = [since && `since ${when(since)}`, until && `until ${when(until)}`].filter(Boolean).join(", ")
  return [reason, times && `(${times})`].filter(Boolean).join(" ")
}

/** Says how to see more of a list, and how far a search came whose time was over. */
export function printMore({ next, lookedTo }: { next: string | null; lookedTo?: string }): void {
  if (next === null) return
  // A list by name goes on behind an address, which a stranger may have chosen.
  const cursor = /^[\w.-]+$/.test(next) ? next : JSON.stringify(next)
  if (lookedTo === undefined) return print(colors.dim(`There are more: --cursor ${cursor} shows the next.`))
  const place = /^\d{4}-\d\d-\d\dT/.test(lookedTo) ? when(lookedTo) : JSON.stringify(lookedTo)
  print(colors.yellow(`Looked as far as ${place} in the time one search has. To look further: --cursor ${cursor}`))
}

export { colors }
