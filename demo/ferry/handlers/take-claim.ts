import { handler } from "wobbet"
import { takeClaim } from "../office"

export default handler(async ({ message, contact }) => {
  const claim = message.choice!.id.slice("claim:".length)
  const by = contact.name ?? "somebody"
  const { taken } = await takeClaim(claim, by)
  return taken ? `**${claim}** is ${by}'s now.` : `**${claim}** was taken by somebody else before.`
})
