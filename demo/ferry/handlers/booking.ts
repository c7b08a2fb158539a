import { answer, interview, once, pause, remember, tell } from "wobbet"
import { eveOf, inWords, seatsInWords } from "../days"
import { bookSeats, nextCrossings } from "../office"

/** Books seats, and writes again on the eve. What was said with the wish to book is not asked again. */
export default interview(function* ({ slots, contact }) {
  const place = typeof slots.place === "string" ? slots.place : undefined
  const said = typeof slots.day === "string" ? slots.day.slice(0, 10) : undefined
  const day = said ?? (yield* answer.date("Which day would you like to cross?", { from: "today" }))
  const boats = yield* once("crossings", () => nextCrossings(place, day), { back: "again" })
  const where = `${place ? `to ${place} ` : ""}on ${inWords(day)}`
  if (boats.length === 0) return `There is no boat ${where}.`
  const options = boats.slice(0, 4).map(({ id, time, to }) => ({ id, label: `${time} to ${to}` }))
  const crossing = yield* answer.choice(`Which crossing would you like ${where}?`, options, { perRow: 2 })
  const seats =
    typeof slots.seats === "number" ? slots.seats : yield* answer.integer("How many seats?", { min: 1, max: 8 })

  const { ticket } = yield* once("book", (key) => bookSeats(crossing, seats, contact.name ?? "a guest", key))
  yield* remember({ lastTicket: ticket })
  yield* tell(
    `Booked: **${seatsInWords(seats)}** on ${inWords(day)}, ticket \`${ticket}\`. Please be at the quay ten minutes before.`,
  )

  yield* pause({ until: eveOf(day) })
  yield* tell(
    `Your boat leaves tomorrow at ${boats.find(({ id }) => id === crossing)?.time ?? "the usual time"}. See you at the quay!`,
  )
})
