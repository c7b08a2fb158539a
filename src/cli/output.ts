import Table from "cli-table3"
import colors from "picocolors"
import { railText, railWord } from "../client/rail.ts"
import type { MessageView, Stop } from "../client/types.ts"

/** Prints a program's answer where `--json` was given; says whether it was. */
export function asJson(options: { json?: boolean }, value: unknown): boolean {
  if (!options.json) return false
  process.stdout.write(`${JSON.stringify(value, null, 2)}\n`)
  return true
}

export function print(...lines: string[]): void {
  process.stdout.write(`${lines.join("\n")}\n`)
}

export function table(head: string[], rows: (string | number)[][], empty: string): void {
  if (rows.length === 0) return print(empty)
  const made = new Table({
    head: head.map((name) => colors.dim(name)),
    style: { head: [], border: [], "padding-left": 0, "padding-right": 2 },
    chars: Object.fromEntries(
      [
        "top",
        "top-mid",
        "top-left",
        "top-right",
        "bottom",
        "bottom-mid",
        "bottom-left",
        "bottom-right",
        "left",
        "left-mid",
        "mid",
        "mid-mid",
        "right",
        "right-mid",
        "middle",
      ].map((name) => [name, ""]),
    ),
  })
  made.push(...rows.map((row) => row.map(String)))
  print(made.toString().replace(/[ \t]+$/gm, ""))
}

/** Words that go on under themselves where the line ends. `indent` is how far in they begin. */
export function wrapped(text: string, indent: number): string {
  const width = Math.max((process.stdout.columns ?? 200) - indent, 30)
  const lines = [""]
  for (const word of text.split(" ")) {
    const line = lines.at(-1)!
    if (line !== "" && line.length + 1 + word.length > width) lines.push(word)
    else lines[lines.length - 1] = line === "" ? word : `${line} ${word}`
  }
  return lines.join(`\n${" ".repeat(indent)}`)
}

/** A text in one line, as wide as a column allows. */
export function inLine(text: string, width: number): string {
  const flat = text.replace(/\s+/g, " ").trim()
  return flat.length <= width ? flat : `${flat.slice(0, width - 1)}…`
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
