import { choices, handler } from "wobbet"
import { nextCrossings } from "../office"

/** The first of two questions: which crossing? */
export default handler(async ({ slots }) => {
  const crossings = await nextCrossings()
  return {
    replies: choices(
      "Which crossing would you like?",
      crossings.slice(0, 4).map((one) => ({ id: `crossing:${one.id}`, label: `${one.time} to ${one.to}` })),
      { perRow: 2 },
    ),
    state: { asking: "crossing", ...(typeof slots.seats === "number" ? { seats: slots.seats } : {}) },
  }
})
