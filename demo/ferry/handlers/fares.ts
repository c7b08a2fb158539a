import { handler, secret } from "wobbet"
import { fareTo } from "../office"

export default handler(async ({ slots }) => {
  const place = typeof slots.place === "string" ? slots.place : "Holm Island"
  const seats = Number(slots.seats ?? 1)
  const { each, total } = await fareTo(place, seats, secret("FARES_KEY"))
  const sum = seats > 1 ? `, ${total.toFixed(2)} € for ${seats}` : ""
  return `A seat to ${place} is **${each.toFixed(2)} €**${sum}.`
})
