import type { Outcome } from "wobbet"
import { text } from "wobbet"
import { bookSeats } from "./office"

export async function book(crossing: string, seats: number, name = "a guest"): Promise<Outcome> {
  const { ticket } = await bookSeats(crossing, seats, name)
  return {
    replies: text(
      `Booked: **${seats} ${seats === 1 ? "seat" : "seats"}**, ticket \`${ticket}\`. Please be at the quay ten minutes before.`,
    ),
    state: { lastTicket: ticket },
  }
}
