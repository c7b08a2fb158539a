import type { Fault } from "./bot.ts"
import type { RouteNote } from "./overlap.ts"

/** What is to be told about two routes, and what to do about it. */
export function noteInWords({ is, route, earlier, text }: RouteNote): Pick<Fault, "says" | "remedy"> {
  const such = text === undefined ? "" : `, such as "${text}"`
  switch (is) {
    case "never met":
      return {
        says: `the route "${route}" is never met: "${earlier}" before it takes everything it takes${such}`,
        remedy: `Move it before "${earlier}", or remove it.`,
      }
    case "perhaps never met":
      return {
        says: `the route "${route}" is perhaps never met: "${earlier}" before it takes all that was tried${such}`,
        remedy: `Try texts with "wobbet bot explain", and move it before "${earlier}" if it is meant to take them.`,
      }
    case "conflict":
      return {
        says: `the routes "${earlier}" and "${route}" both take "${text}"; "${earlier}" gets it, since it stands first`,
        remedy: "Make one of them more precise, or change their order.",
      }
  }
}
