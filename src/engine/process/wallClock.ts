/** What the time of the calendar may be read for, and why no other clock will do. A lint rule knows this list alone. */
export const reasons = {
  record: "what stands on record, in an answer or in a file names the time of day it was made",
  signature: "a signature, and a date that somebody else's service names, speak of the time of day",
  calendar: "hours, quiet hours, days and what a bot is told of the time follow the calendar",
  until: "an operator was promised a time of day until which something holds",
  name: "a name is to differ from those that processes before made; nothing is read from it",
  figure: "it is drawn or counted, and decides nothing",
} as const

/**
 * The time of day, which may jump. Pace, leases, order, waits and retries go by `performance.now()` within the process,
 * and by the database's clock where processes must agree.
 */
export function wallClock(_why: keyof typeof reasons): Date {
  return new Date()
}
