import { cards, handler } from "wobbet"
import { office } from "../office"

/** One card, written once; every kind of channel shows it as it can. */
export default handler(() => ({
  replies: cards({
    title: "Holm Island tours",
    subtitle: "Two hours, every morning at ten. Which one would you like to hear about?",
    picture: `${office}/pictures/holm-island.svg`,
    choices: [
      { id: "tour:lighthouse", label: "Lighthouse walk" },
      { id: "tour:seals", label: "Seal bay" },
    ],
  }),
}))
