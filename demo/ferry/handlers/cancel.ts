import { handler } from "wobbet"

export default handler(({ state }) => {
  if (!state.asking) return { replies: "There was nothing to cancel." }
  return { replies: "Cancelled. Nothing is booked.", state: null }
})
