/** A date as a person reads it: `2026-12-04` is Friday, 4 December. */
export function inWords(day: string): string {
  const date = new Date(`${day}T12:00:00Z`)
  return date.toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "long", timeZone: "UTC" })
}

/** Six in the evening of the day before, by the ferry's clock. */
export function eveOf(day: string): string {
  const eve = new Date(`${day}T12:00:00Z`)
  eve.setUTCDate(eve.getUTCDate() - 1)
  return `${eve.toISOString().slice(0, 10)}T18:00`
}

export function seatsInWords(seats: number): string {
  return `${seats} ${seats === 1 ? "seat" : "seats"}`
}
