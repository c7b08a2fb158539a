import ICAL from "ical.js"
import { DateTime, IANAZone } from "luxon"
import { shorten } from "../message/graphemes.ts"

/** Events of a calendar that are read, and occurrences of all of them together up to a year. */
const mostEvents = 5000
const mostOccurrences = 50_000
/** The last year that is looked at: nobody plans further, and whoever makes a message up could name any. */
export const lastYear = 2100

/** From when until when, in milliseconds. */
export interface Stretch {
  from: number
  to: number
}

/** What is wrong with a calendar, in words. */
export class CalendarError extends Error {}

/**
 * What an iCalendar text (RFC 5545) closes in a year: whole days for events without a time, and the event's own time
 * otherwise. Cancelled events and those marked as free count for nothing. Throws a CalendarError where it is none.
 *
 * @param zone whose days are meant, and whose clock where an event names none
 */
export function closedSpans(text: string, year: number, zone: string): Stretch[] {
  const events = eventsOf(text)
  let count = 0
  const from = DateTime.fromObject({ year }, { zone })
  const to = from.plus({ years: 1 })
  return events.flatMap((event) => {
    const length = event.endDate.subtractDate(event.startDate)
    const named = event.component.getFirstProperty("dtstart")?.getFirstParameter("tzid")
    const spans: Stretch[] = []
    const add = (start: ICAL.Time) => {
      const end = start.clone()
      end.addDuration(length)
      const stretch = { from: instantOf(start, named, zone).toMillis(), to: instantOf(end, named, zone).toMillis() }
      if (stretch.to > from.toMillis() && stretch.from < to.toMillis()) spans.push(stretch)
    }
    if (!event.isRecurring()) {
      add(event.startDate)
      return spans
    }
    const occurrences = event.iterator()
    for (;;) {
      const next = occurrences.next() as ICAL.Time | null
      if (!next || next.year > year) return spans
      if (++count > mostOccurrences)
        throw new CalendarError(
          `its events are repeated more than ${mostOccurrences} times up to ${year}, "${shorten(event.summary ?? "", 60)}" among them`,
        )
      // Long events may reach into the year from the one before.
      if (next.year >= year - 1) add(next)
    }
  })
}

function eventsOf(text: string): ICAL.Event[] {
  let read: unknown
  try {
    read = ICAL.parse(text)
  } catch (error) {
    throw new CalendarError(`it is not an iCalendar file: ${shorten((error as Error).message, 200)}`)
  }
  const calendar = new ICAL.Component(read as string)
  if (calendar.name !== "vcalendar") throw new CalendarError("it is not an iCalendar file: BEGIN:VCALENDAR is missing")
  const parts = calendar.getAllSubcomponents("vevent")
  if (parts.length > mostEvents) throw new CalendarError(`it has more than ${mostEvents} events`)
  return parts.flatMap((part) => {
    const says = (name: string) => String(part.getFirstPropertyValue(name) ?? "").toUpperCase()
    if (says("status") === "CANCELLED" || says("transp") === "TRANSPARENT") return []
    const often = String(part.getFirstPropertyValue("rrule") ?? "")
    if (/FREQ=(SECONDLY|MINUTELY|HOURLY)/.test(often))
      throw new CalendarError(
        `the event "${shorten(String(part.getFirstPropertyValue("summary")), 60)}" is repeated within a day`,
      )
    if (!part.getFirstPropertyValue("dtstart")) throw new CalendarError("an event has no DTSTART")
    return [new ICAL.Event(part)]
  })
}

/** An instant as the calendar tells it: in its own zone, in UTC, or by the clock of whoever asks. */
function instantOf(time: ICAL.Time, named: string | undefined, zone: string): DateTime {
  const { year, month, day, hour, minute, second, isDate } = time
  const own = time.zone?.tzid === "UTC" ? "utc" : named !== undefined && IANAZone.isValidZone(named) ? named : zone
  if (isDate) return DateTime.fromObject({ year, month, day }, { zone })
  return DateTime.fromObject({ year, month, day, hour, minute, second }, { zone: own })
}
