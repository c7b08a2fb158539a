import { choices, handler } from "wobbet"
import { openClaims } from "../office"

/** What the quay desk sees of lost property, with a button to take each over. */
export default handler(async () => {
  const claims = (await openClaims()).slice(0, 5)
  if (claims.length === 0) return "No claims are open."
  const lines = claims.map((one) => `- **${one.claim}** ${one.note || "a photo"}, by ${one.by}`)
  return {
    replies: choices(
      `Open claims:\n${lines.join("\n")}`,
      claims.map((one) => ({ id: `claim:${one.claim}`, label: `Take ${one.claim}` })),
    ),
  }
})
