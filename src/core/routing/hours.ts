import { DateTime } from "luxon"
import type { Stretch } from "./holidays.ts"
import { closedSpans, lastYear } from "./holidays.ts"

/** Opening hours as they stand in `bot.yaml`, under a name of their own. */
export interface Hours {
  /** IANA zone; the bot's where it is left out. */
  zone?: string
  /** By day (`mon`, `mon-fri`, `sat, sun`, `daily`): one or several spans such as `08:00-18:00`. */
  open: { [days: string]: string | string[] }
  /** Days that are closed: `2026-12-25`, `12-25` for each year, `2026-12-24..2026-12-26`, or the calendar's file. */
  closed?: string[]
  /** Days that are open at other hours. */
  other?: { [date: string]: string | string[] }
  /** iCalendar texts, by the files' names. */
  calendars?: { [file: string]: string }
}

/** Minutes of the day; one that ends at or before its beginning ends on the next day. */
interface DaySpan {
  from: number
  to: number
}

/** What is open about an instant. */
export interface OpenAt {
  open: boolean
  /** When it closes, where it is open. */
  closes?: DateTime
  /** When it opens next, where it ever does. */
  next?: DateTime
}

/** A fault in hours, and where. */
export class HoursError extends Error {
  constructor(
    readonly path: string[],
    message: string,
  ) {
    super(message)
  }
}

const days = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]
/** Days looked ahead for the next opening. */
const ahead = 400
/** Milliseconds for which an answer holds where nothing opens or closes. */
const longestKept = 3_600_000
/** Stretches that follow each other without a gap are one; so many days of that are looked at. */
const longestOpen = 9

/** Whether something is open, and when it opens next: by the clock of its zone, summer time right. */
export class OpeningHours {
  private readonly zone: string
  private readonly week: DaySpan[][]
  private readonly other = new Map<string, DaySpan[]>()
  private readonly closed: ((day: DateTime) => boolean)[] = []
  private readonly calendars: string[]
  private readonly byYear = new Map<string, Stretch[]>()
  private last: (Stretch & { answer: OpenAt }) | undefined

  /**
   * Throws a HoursError for what cannot be read.
   *
   * @param zone the bot's
   */
  constructor(hours: Hours, zone: string) {
    this.zone = hours.zone ?? zone
    this.week = weekOf(hours.open)
    for (const [date, spans] of Object.entries(hours.other ?? {}))
      this.other.set(dateOf(date, ["other", date]), spansOf(spans, ["other", date]))
    const files = hours.calendars ?? {}
    ;(hours.closed ?? []).forEach((entry, at) => {
      if (!Object.hasOwn(files, entry)) this.closed.push(closedOn(entry, ["closed", String(at)]))
    })
    this.calendars = Object.values(files)
    // What can be read up to there can be read in each year before.
    for (const text of this.calendars) closedSpans(text, lastYear, this.zone)
  }

  /** @param now ISO 8601 */
  at(now: string): OpenAt {
    const here = DateTime.fromISO(now, { zone: this.zone })
    const instant = here.toMillis()
    // Until something opens or closes the answer stays: hours that open in a year take a year of days to look through.
    const { last } = this
    if (last && last.from <= instant && instant < last.to) return last.answer
    const answer = this.lookedUp(here)
    const changes = [answer.closes, answer.next].flatMap((time) => time?.toMillis() ?? [])
    const to = changes.length > 0 ? Math.min(...changes) : instant + longestKept
    this.last = { from: instant, to, answer }
    return answer
  }

  private lookedUp(here: DateTime): OpenAt {
    const instant = here.toMillis()
    const today = here.startOf("day")
    const stretches = [-1, 0, 1].flatMap((off) => this.stretchesOn(today.plus({ days: off })))
    if (!stretches.some(({ from, to }) => from <= instant && instant < to))
      return { open: false, ...this.opensAfter(instant, today) }
    return { open: true, ...this.closesAfter(instant, today), ...this.opensAfter(instant, today) }
  }

  private closesAfter(instant: number, today: DateTime): { closes?: DateTime } {
    let end = instant
    for (let off = -1; off <= longestOpen; off++)
      for (const { from, to } of this.stretchesOn(today.plus({ days: off }))) if (from <= end && to > end) end = to
    const open = end < today.plus({ days: longestOpen }).toMillis()
    return open ? { closes: DateTime.fromMillis(end, { zone: this.zone }) } : {}
  }

  private opensAfter(instant: number, today: DateTime): { next?: DateTime } {
    for (let off = 0; off <= ahead; off++) {
      const day = today.plus({ days: off })
      const [first] = this.stretchesOn(day).filter(({ from }) => from > instant)
      if (first) return { next: DateTime.fromMillis(first.from, { zone: this.zone }) }
    }
    return {}
  }

  /** When it is open on a day, in order; a stretch may end on the day after. */
  private stretchesOn(day: DateTime): Stretch[] {
    const spans = this.spansOn(day)
    const open = spans.map(({ from, to }) => ({
      from: minuteOf(day, from),
      to: to > from ? minuteOf(day, to) : minuteOf(day.plus({ days: 1 }), to),
    }))
    return open.flatMap((stretch) => this.without(stretch, day)).sort((a, b) => a.from - b.from)
  }

  private spansOn(day: DateTime): DaySpan[] {
    const other = this.other.get(day.toISODate()!)
    if (other) return other
    if (this.closed.some((closes) => closes(day))) return []
    return this.week[day.weekday - 1]!
  }

  /** A stretch without what the calendars close. */
  private without(stretch: Stretch, day: DateTime): Stretch[] {
    let left = [stretch]
    for (const year of new Set([day.year, day.plus({ days: 1 }).year]))
      for (const text of this.calendars)
        for (const closed of this.closedIn(text, year))
          left = left.flatMap(({ from, to }) =>
            closed.to <= from || closed.from >= to
              ? [{ from, to }]
              : [
                  { from, to: Math.min(to, closed.from) },
                  { from: Math.max(from, closed.to), to },
                ].filter((rest) => rest.from < rest.to),
          )
    return left
  }

  private closedIn(text: string, year: number): Stretch[] {
    if (year > lastYear) return []
    const key = `${this.calendars.indexOf(text)} ${year}`
    let spans = this.byYear.get(key)
    if (!spans) {
      if (this.byYear.size > 20) this.byYear.clear()
      this.byYear.set(key, (spans = closedSpans(text, year, this.zone)))
    }
    return spans
  }
}

/** A minute of a day as the clock shows it: one that summer time leaves out is the one after it. */
function minuteOf(day: DateTime, minute: number): number {
  if (minute === 1440) return day.plus({ days: 1 }).toMillis()
  return day.set({ hour: Math.floor(minute / 60), minute: minute % 60 }).toMillis()
}

function weekOf(open: Hours["open"]): DaySpan[][] {
  const week: DaySpan[][] = days.map(() => [])
  for (const [names, spans] of Object.entries(open)) {
    const path = ["open", names]
    const read = spansOf(spans, path)
    for (const day of daysOf(names, path)) {
      if (week[day]!.length > 0) throw new HoursError(path, `${days[day]} is named twice`)
      week[day] = read
    }
  }
  return week
}

function daysOf(names: string, path: string[]): number[] {
  if (names.trim().toLowerCase() === "daily") return days.map((_name, at) => at)
  return names.split(",").flatMap((part) => {
    const [from, to = from] = part
      .trim()
      .toLowerCase()
      .split("-")
      .map((name) => days.findIndex((day) => day === name.trim() || day.slice(0, 3) === name.trim()))
    if (from === undefined || to === undefined || from < 0 || to < 0 || part.split("-").length > 2)
      throw new HoursError(path, `"${part.trim()}" names no day; write mon, mon-fri, "sat, sun" or daily`)
    return to >= from ? range(from, to) : [...range(from, 6), ...range(0, to)]
  })
}

function range(from: number, to: number): number[] {
  return Array.from({ length: to - from + 1 }, (_none, at) => from + at)
}

function spansOf(given: string | string[], path: string[]): DaySpan[] {
  const spans = [given]
    .flat()
    .flatMap((text) => text.split(","))
    .map((text) => {
      const match = /^\s*(\d{1,2}):(\d\d)\s*[-–]\s*(\d{1,2}):(\d\d)\s*$/.exec(text)
      const [from, to] = match
        ? [Number(match[1]) * 60 + Number(match[2]), Number(match[3]) * 60 + Number(match[4])]
        : [-1, -1]
      if (!match || from >= 1440 || to > 1440 || Number(match[2]) > 59 || Number(match[4]) > 59)
        throw new HoursError(path, `"${text.trim()}" is not a span of hours; write "08:00-18:00"`)
      return { from, to }
    })
    .sort((a, b) => a.from - b.from)
  spans.forEach(({ from }, at) => {
    const before = spans[at - 1]
    if (before && (before.to <= before.from || before.to > from))
      throw new HoursError(path, `two spans of "${[given].flat().join(", ")}" overlap`)
  })
  return spans
}

function dateOf(text: string, path: string[]): string {
  const date = DateTime.fromISO(text)
  if (!/^\d{4}-\d\d-\d\d$/.test(text) || !date.isValid)
    throw new HoursError(path, `"${text}" is not a date; write 2026-12-24`)
  return text
}

function closedOn(entry: string, path: string[]): (day: DateTime) => boolean {
  const [from, to] = entry.split("..").map((part) => part.trim())
  if (to !== undefined) {
    const [first, last] = [dateOf(from!, path), dateOf(to, path)]
    if (last < first) throw new HoursError(path, `"${entry}" ends before it begins`)
    return (day) => first <= day.toISODate()! && day.toISODate()! <= last
  }
  // A leap year, so that 02-29 is a date.
  if (/^\d\d-\d\d$/.test(entry) && DateTime.fromISO(`2024-${entry}`).isValid)
    return (day) => day.toFormat("MM-dd") === entry
  if (/\.ics$/i.test(entry)) throw new HoursError(path, `there is no file ${entry} in the folder`)
  if (!/^\d{4}-\d\d-\d\d$/.test(entry) || !DateTime.fromISO(entry).isValid)
    throw new HoursError(
      path,
      `"${entry}" is not a day; write 2026-12-25, 12-25 for each year, 2026-12-24..2026-12-26, or the name of an .ics file of the folder`,
    )
  return (day) => day.toISODate() === entry
}
