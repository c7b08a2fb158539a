import { CalendarError, closedSpans } from "./holidays.ts"
import type { Hours } from "./hours.ts"
import { HoursError, OpeningHours } from "./hours.ts"

const lisbon = "Europe/Lisbon"
const office: Hours = { open: { "mon-fri": "08:00-18:00", sat: ["09:00-13:00", "14:00-16:00"] } }

function at(hours: Hours, now: string, zone = lisbon) {
  const { open, closes, next } = new OpeningHours(hours, zone).at(now)
  const shown = [closes, next].map((time) => time?.toISO({ suppressMilliseconds: true })?.replace("+00:00", "Z"))
  return [open, ...shown]
}

// 2026-11-27 is a Friday.
test.each<[string, Hours, string, unknown[]]>([
  ["within", office, "2026-11-27T10:00", [true, "2026-11-27T18:00:00Z", "2026-11-28T09:00:00Z"]],
  ["at the very end", office, "2026-11-27T18:00", [false, undefined, "2026-11-28T09:00:00Z"]],
  ["between two spans", office, "2026-11-28T13:30", [false, undefined, "2026-11-28T14:00:00Z"]],
  ["over a weekend", office, "2026-11-28T17:00", [false, undefined, "2026-11-30T08:00:00Z"]],
  [
    "by its own zone",
    { ...office, zone: "America/New_York" },
    "2026-11-27T12:59:00Z",
    [false, undefined, "2026-11-27T08:00:00-05:00"],
  ],
  [
    "past midnight",
    { open: { fri: "20:00-02:00" } },
    "2026-11-28T01:30",
    [true, "2026-11-28T02:00:00Z", "2026-12-04T20:00:00Z"],
  ],
  ["always", { open: { daily: "00:00-24:00" } }, "2026-11-28T01:30", [true, undefined, "2026-11-29T00:00:00Z"]],
  [
    "from Saturday to Monday",
    { open: { "sat-mon": "10:00-11:00" } },
    "2026-11-30T10:30",
    [true, "2026-11-30T11:00:00Z", "2026-12-05T10:00:00Z"],
  ],
  [
    "closed on a date",
    { ...office, closed: ["2026-11-27"] },
    "2026-11-27T10:00",
    [false, undefined, "2026-11-28T09:00:00Z"],
  ],
  [
    "closed each year",
    { ...office, closed: ["12-25"] },
    "2026-12-25T10:00",
    [false, undefined, "2026-12-26T09:00:00Z"],
  ],
  [
    "closed for days",
    { ...office, closed: ["2026-12-24..2027-01-03"] },
    "2026-12-23T19:00",
    [false, undefined, "2027-01-04T08:00:00Z"],
  ],
  [
    "other hours on a date, which a closed day does not take away",
    { ...office, closed: ["12-24"], other: { "2026-12-24": "08:00-12:00" } },
    "2026-12-24T11:00",
    [true, "2026-12-24T12:00:00Z", "2026-12-25T08:00:00Z"],
  ],
  // Clocks go forward at 01:00 on 2026-03-29, and back at 02:00 on 2026-10-25.
  [
    "at an hour that summer time leaves out",
    { open: { sun: "01:30-03:00" } },
    "2026-03-29T00:30Z",
    [false, undefined, "2026-03-29T02:30:00+01:00"],
  ],
  [
    "in the hour that comes twice",
    { open: { sun: "01:30-03:00" } },
    "2026-10-25T01:15Z",
    [true, "2026-10-25T03:00:00Z", "2026-11-01T01:30:00Z"],
  ],
  [
    "never again",
    { open: { mon: "08:00-09:00" }, closed: ["2026-01-01..2030-01-01"] },
    "2026-11-27T10:00",
    [false, undefined, undefined],
  ],
])("knows what is open %s", (_name, hours, now, wanted) => {
  expect(at(hours, now)).toEqual(wanted)
})

test.each<[string, Hours, string]>([
  ["a day there is not", { open: { "mon-thu": "08:00-18:00", fir: "08:00-09:00" } }, '"fir" names no day'],
  ["a day twice", { open: { "mon-fri": "08:00-18:00", fri: "08:00-09:00" } }, "friday is named twice"],
  ["an hour there is not", { open: { fri: "08:00-25:00" } }, '"08:00-25:00" is not a span of hours'],
  ["words", { open: { fri: "all day" } }, '"all day" is not a span of hours; write "08:00-18:00"'],
  ["spans that overlap", { open: { fri: ["08:00-12:00", "11:00-13:00"] } }, "overlap"],
  ["a date there is not", { open: {}, closed: ["2026-02-30"] }, '"2026-02-30" is not a day'],
  ["a file there is not", { open: {}, closed: ["days.ics"] }, "there is no file days.ics in the folder"],
  ["days backwards", { open: {}, closed: ["2026-12-26..2026-12-24"] }, "ends before it begins"],
  ["another day's date", { open: {}, other: { "24.12.": "08:00-12:00" } }, '"24.12." is not a date'],
])("refuses hours with %s", (_name, hours, says) => {
  expect(() => new OpeningHours(hours, lisbon)).toThrow(HoursError)
  expect(() => new OpeningHours(hours, lisbon)).toThrow(says)
})

const calendar = (...events: string[]) =>
  ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Tern Point Ferry//EN", ...events, "END:VCALENDAR"].join("\r\n")
const event = (...lines: string[]) => ["BEGIN:VEVENT", "UID:1", "SUMMARY:Closed", ...lines, "END:VEVENT"].join("\r\n")
const closedBy = (...lines: string[]): Hours => ({
  ...office,
  closed: ["days.ics"],
  calendars: { "days.ics": calendar(event(...lines)) },
})

test.each<[string, Hours, string, boolean]>([
  ["a whole day", closedBy("DTSTART;VALUE=DATE:20261127"), "2026-11-27T10:00", false],
  ["the day after it", closedBy("DTSTART;VALUE=DATE:20261126"), "2026-11-27T10:00", true],
  [
    "days up to their end",
    closedBy("DTSTART;VALUE=DATE:20261125", "DTEND;VALUE=DATE:20261127"),
    "2026-11-26T10:00",
    false,
  ],
  ["each year", closedBy("DTSTART;VALUE=DATE:20101127", "RRULE:FREQ=YEARLY"), "2026-11-27T10:00", false],
  [
    "the last Friday of November",
    closedBy("DTSTART;VALUE=DATE:20151127", "RRULE:FREQ=YEARLY;BYMONTH=11;BYDAY=-1FR"),
    "2026-11-27T10:00",
    false,
  ],
  [
    "not once it has ended",
    closedBy("DTSTART;VALUE=DATE:20101127", "RRULE:FREQ=YEARLY;UNTIL=20200101"),
    "2026-11-27T10:00",
    true,
  ],
  ["some hours", closedBy("DTSTART:20261127T090000", "DTEND:20261127T110000"), "2026-11-27T10:00", false],
  ["the hours after those", closedBy("DTSTART:20261127T090000", "DTEND:20261127T110000"), "2026-11-27T11:00", true],
  [
    "hours of another zone",
    closedBy("DTSTART;TZID=America/New_York:20261127T050000", "DURATION:PT1H"),
    "2026-11-27T10:30Z",
    false,
  ],
  ["one that was cancelled", closedBy("DTSTART;VALUE=DATE:20261127", "STATUS:CANCELLED"), "2026-11-27T10:00", true],
  [
    "one that leaves people free",
    closedBy("DTSTART;VALUE=DATE:20261127", "TRANSP:TRANSPARENT"),
    "2026-11-27T10:00",
    true,
  ],
])("reads from a calendar: %s", (_name, hours, now, open) => {
  expect(new OpeningHours(hours, lisbon).at(now).open).toBe(open)
})

test.each<[string, string, string]>([
  ["what is no calendar", "closed on Fridays", "it is not an iCalendar file"],
  ["another component", "BEGIN:VCARD\r\nEND:VCARD", "BEGIN:VCALENDAR is missing"],
  ["an event each second", calendar(event("DTSTART:20261127T090000", "RRULE:FREQ=SECONDLY")), "repeated within a day"],
  ["an event without a beginning", calendar(event("DESCRIPTION:none")), "has no DTSTART"],
  [
    "an event each day for ever, twice over",
    calendar(...[1, 2].map(() => event("DTSTART;VALUE=DATE:19000101", "RRULE:FREQ=DAILY"))),
    "more than 50000 times",
  ],
])("refuses a calendar with %s", (_name, text, says) => {
  let thrown: unknown
  try {
    closedSpans(text, 2026, lisbon)
  } catch (error) {
    thrown = error
  }
  expect(thrown).toBeInstanceOf(CalendarError)
  expect((thrown as Error).message).toContain(says)
})

test("asked again and again, in any order, it answers by the time that is asked about", () => {
  const hours = new OpeningHours(office, lisbon)
  const open = (now: string) => hours.at(now).open
  const times = ["2026-11-27T10:00", "2026-11-27T17:59", "2026-11-27T18:00", "2026-11-27T09:00", "2026-11-28T08:59"]
  expect([...times, "2026-11-28T09:00", "2026-11-27T19:00", "2026-11-27T18:00"].map(open)).toEqual([
    ...[true, true, false, true, false],
    ...[true, false, false],
  ])
})

test("what a calendar closes for ever is read once, and a message made up for the year 9999 is answered", () => {
  const hours = new OpeningHours(closedBy("DTSTART;VALUE=DATE:20200101", "RRULE:FREQ=DAILY"), lisbon)
  expect(hours.at("2026-11-27T10:00")).toEqual({ open: false })
  expect(hours.at("9999-12-30T10:00").open).toBe(true)
})
