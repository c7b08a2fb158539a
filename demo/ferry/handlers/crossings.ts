import { choices, handler } from "wobbet"
import { nextCrossings } from "../office"

export default handler(async ({ slots }) => {
  const place = typeof slots.place === "string" ? slots.place : undefined
  const [next, ...later] = await nextCrossings(place)
  if (!next) return { replies: `There is no boat to ${place} any more today.` }
  const rest = later.slice(0, 2).map((one) => one.time)
  return {
    replies: choices(
      `Next boat to ${next.to}: **${next.time}**, ${next.free} seats free.${rest.length > 0 ? `\nThen ${rest.join(" and ")}.` : ""}`,
      [{ id: "book", label: "Book seats" }],
    ),
  }
})
