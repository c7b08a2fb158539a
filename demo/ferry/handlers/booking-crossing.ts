import { choices, handler } from "wobbet"
import { book } from "../booking"

/** The second question: how many seats? Left out when the person said so at the start. */
export default handler(async ({ message, state, contact }) => {
  const crossing = message.choice!.id.slice("crossing:".length)
  if (typeof state.seats === "number") return book(crossing, state.seats, contact.name)
  return {
    replies: choices(
      `The ${message.choice!.label ?? crossing}, good. How many seats?`,
      ["1", "2", "3", "4"].map((n) => ({ id: `seats:${n}`, label: n })),
      { perRow: 4 },
    ),
    state: { asking: "seats", crossing },
  }
})
