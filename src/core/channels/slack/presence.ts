import type { Presenting } from "../presence.ts"

/** A bot's token sets nothing of this: all of it is entered in the app's own pages. */
export const presenting: Presenting = {
  ask: () => [],
  read: () => ({}),
  set: () => [],
  longest: { name: 35, about: 140, description: 4000, says: 2000 },
  byHand: {
    name: "under Basic Information, and under App Home as the bot's display name",
    about: "under Basic Information: Short description",
    description: "under Basic Information: Long description",
    commands: "under Slash Commands, each with our address as its Request URL",
    picture: "under Basic Information: App icon",
  },
}
