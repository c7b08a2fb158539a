import { choices, handler } from "wobbet"
import { nextCrossings } from "../office"

/** The first of two questions: which crossing? */
export default handler(async ({ slots }) => {
  const crossings = await nextCrossings()
  return {
    replies: choices(
      "Which crossing would you like?",
      crossings
        .slice(0, 4)
        .map((crossing) => ({ id: `crossing:${crossing.id}`, label: `${crossing.time} to ${crossing.to}` })),
      { perRow: 2 },
    ),
    state: { asking: "crossing", ...(typeof slots.seats === "number" ? { seats: slots.seats } : {}) },
  }
})
