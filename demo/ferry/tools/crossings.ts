import { tool } from "wobbet"
import { nextCrossings } from "../office"

/** Looked up at the harbour office: a model that knows no timetable would make one up. */
export default tool<{ to?: string; day?: string }>({
  description: "The crossings that still leave today, or on a given day, with their free seats",
  parameters: {
    type: "object",
    properties: {
      to: { type: "string", enum: ["Holm Island", "Tern Point"], description: "where to; both ways without it" },
      day: { type: "string", format: "date", description: "such as 2026-12-04; today without it" },
    },
    additionalProperties: false,
  },
  run: async ({ to, day }) => (await nextCrossings(to, day)).slice(0, 4),
})
