import { handler } from "wobbet"
import { book } from "../booking"

export default handler(async ({ message, slots, state, contact }) => {
  const seats = message.choice ? Number(message.choice.id.slice("seats:".length)) : Number(slots.seats)
  if (seats < 1 || seats > 8) return { replies: "We can seat **1 to 8** people on one ticket. How many shall it be?" }
  return book(String(state.crossing), seats, contact.name)
})
