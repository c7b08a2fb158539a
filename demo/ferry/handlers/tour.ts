import { handler } from "wobbet"

const tours: { [id: string]: string } = {
  "tour:lighthouse": "The **lighthouse walk** climbs 140 steps and ends with tea in the keeper's house.",
  "tour:seals": "**Seal bay** is a quiet hour by the water. Bring something warm, and no dogs please.",
}

export default handler(({ message }) => tours[message.choice!.id] ?? "That tour is not in our book.")
