import { choices, handler } from "wobbet"
import { openClaims } from "../office"

/** What the quay desk sees of lost property, with a button to take each over. */
export default handler(async () => {
  const claims = (await openClaims()).slice(0, 5)
  if (claims.length === 0) return "No claims are open."
  const lines = claims.map((claim) => `- **${claim.claim}** ${claim.note || "a photo"}, by ${claim.by}`)
  return {
    replies: choices(
      `Open claims:\n${lines.join("\n")}`,
      claims.map((claim) => ({ id: `claim:${claim.claim}`, label: `Take ${claim.claim}` })),
    ),
  }
})
