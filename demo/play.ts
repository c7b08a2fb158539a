import type { TelegramStandin } from "../src/standins/telegram/server.ts"

/** The bots, people and places of the ferry's made-up Telegram. The same at every start, so that ids stay what they were. */
export interface Cast {
  bot: { username: string; token: string }
  spare: { username: string; token: string }
  people: { [name: string]: number }
  quayDesk: number
  notices: number
}

export function setTheScene({ world }: TelegramStandin): Cast {
  const bot = world.addBot("tern_point_ferry_bot", "Tern Point Ferry", "7700900001:standin-tern-point-ferry")
  const spare = world.addBot("holm_island_bot", "Holm Island Desk", "7700900002:standin-holm-island-desk")
  const cast: [key: string, first: string, last?: string, language?: string][] = [
    ["ines", "Inês", "Carvalho", "pt"],
    ["tom", "Tom", "Aldous", "en"],
    ["mara", "Mara", "Lindqvist", "en"],
    ["yusuf", "Yusuf", "Demir", "tr"],
    ["ada", "Ada", "Pell", "en"],
    ["kenji", "Kenji", "Mori", "ja"],
    ["ruth", "Ruth", "O’Shea", "en"],
    ["leo", "Leo", "*Star* Baptiste", "fr"],
  ]
  const people: { [name: string]: number } = {}
  for (const [key, first_name, last_name, language_code] of cast) {
    const person = world.addPerson({
      first_name,
      ...(last_name ? { last_name } : {}),
      ...(language_code ? { language_code } : {}),
    })
    people[key] = person.id
    world.privateChat(person).bots.add(bot.username)
  }
  const quayDesk = world.addGroup({ title: "Quay desk", type: "supergroup", bots: [bot.username] })
  const notices = world.addGroup({
    title: "Tern Point notices",
    type: "channel",
    username: "tern_point_notices",
    bots: [bot.username],
  })
  return { bot, spare, people, quayDesk: quayDesk.id, notices: notices.id }
}

type Act = (post: (path: string, body: object) => Promise<unknown>, cast: Cast) => Promise<unknown>

const say =
  (who: string, text: string, more: object = {}): Act =>
  (post, cast) =>
    post("say", { bot: cast.bot.username, from: cast.people[who], text, ...more })
const press =
  (who: string, button: string): Act =>
  (post, cast) =>
    post("press", { bot: cast.bot.username, from: cast.people[who], button })
const photo =
  (who: string, name: string, caption?: string): Act =>
  (post, cast) =>
    post("say", { bot: cast.bot.username, from: cast.people[who], photo: name, ...(caption ? { caption } : {}) })
const wait =
  (seconds: number): Act =>
  () =>
    new Promise((resolve) => setTimeout(resolve, seconds * 1000))

/** A morning at the ferry, told quickly. */
export const morning: Act[] = [
  say("ines", "/start"),
  say("tom", "When is the next crossing to Holm Island?"),
  wait(1.2),
  say("mara", "/start spring-leaflet"),
  say("ruth", "next boat please"),
  press("ines", "Next crossing"),
  wait(1.5),
  press("ines", "Book seats"),
  say("yusuf", "Hello"),
  say("yusuf", "I found a blue umbrella"),
  say("leo", "what are your opening hours"),
  say("ruth", "crossing times to Holm Island"),
  say("kenji", "how much are tickets for 2 to Holm Island"),
  say("tom", "I left my umbrella"),
  wait(1.5),
  say("ines", "yesterday"),
  say("ada", "book 2 seats"),
  wait(1.5),
  say("ines", "tomorrow"),
  say("ada", "on friday"),
  wait(1.5),
  (post, cast) => pressCrossing(post, cast, "ines"),
  photo("yusuf", "umbrella", "It was on the upper deck"),
  wait(1.5),
  say("ines", "when are you open"),
  wait(1.5),
  say("ines", "three of us"),
  (post, cast) => pressCrossing(post, cast, "ada"),
  (post, cast) =>
    post("say", {
      bot: cast.bot.username,
      from: cast.people.tom,
      chat: cast.quayDesk,
      text: "Morning all. /crossings@tern_point_ferry_bot",
    }),
  (post, cast) =>
    post("say", {
      bot: cast.bot.username,
      from: cast.people.tom,
      chat: cast.quayDesk,
      text: "/crossings@tern_point_ferry_bot",
    }),
  wait(1.2),
  say("kenji", "次の船は何時ですか"),
  say("mara", "is there a fog warning today?"),
  (post, cast) =>
    post("say", {
      bot: cast.bot.username,
      from: cast.people.tom,
      chat: cast.notices,
      text: "Weather hold lifted: crossings run to the timetable again from 10:00.",
    }),
  wait(1.2),
  say("ada", "Pilot, what does a bicycle cost?"),
  say("yusuf", "pilot, may dogs come along in fog"),
  say("ruth", "Do you sell umbrellas on board?"),
  say("tom", "Can I bring my dog on board?"),
  say("ines", "two seats to the island next friday"),
  say("mara", "can I bring a dog on board"),
  say("leo", "I want to speak to somebody"),
  say("kenji", "dear pilot crossings to Holm Island"),
  say("ruth", "pilot, who painted the lighthouse"),
  say("ada", "Can I bring my bike on board, please?"),
  (post) => post("faults", { kind: "429", method: "sendMessage", count: 1, seconds: 2 }),
  say("tom", "next ferry to Tern Point"),
  wait(2),
  // Leo asks, and blocks the bot before it can answer.
  async (post, cast) => {
    await say("leo", "next crossing")(post, cast)
    await post("block", { bot: cast.bot.username, from: cast.people.leo })
  },
  wait(1.5),
  // The provider takes the answer and its own word of that is lost on the way: a doubt, shown as one.
  (post) => post("faults", { kind: "drop", method: "sendMessage", count: 1 }),
  say("kenji", "what are your opening hours"),
  wait(1.5),
  say("ada", "/book"),
  wait(1.5),
]

/** What goes on afterwards, one at a time, so that the pages have something to show live. */
export const dayByTheQuay: Act[] = [
  say("tom", "next boat to Holm Island"),
  say("ines", "opening hours"),
  photo("mara", "scarf", "A red scarf, left on the bench"),
  say("yusuf", "/crossings"),
  say("ruth", "book 1 seat tomorrow"),
  (post, cast) => pressCrossing(post, cast, "ruth"),
  say("kenji", "next crossing please"),
  say("ada", "never mind"),
]

async function pressCrossing(
  post: (path: string, body: object) => Promise<unknown>,
  cast: Cast,
  who: string,
): Promise<unknown> {
  // The first button of the newest question about crossings.
  const chat = (await post(`chats/${cast.people[who]}`, {})) as {
    reply_markup?: { inline_keyboard: { text: string; callback_data?: string }[][] }
  }[]
  const buttons = chat.flatMap((one) => one.reply_markup?.inline_keyboard.flat() ?? [])
  const data = buttons
    .filter(({ text }) => /^\d\d:\d\d to /.test(text))
    .map((button) => button.callback_data)
    .at(-1)
  return data ? post("press", { bot: cast.bot.username, from: cast.people[who], button: data }) : undefined
}

/** Plays acts against the stand-in, as the people would: over its own interface. */
export async function play(
  standin: string,
  cast: Cast,
  acts: Act[],
  options: { pause: number; stopped: () => boolean; act?: (at: number) => void },
): Promise<void> {
  const post = async (path: string, body: object): Promise<unknown> => {
    const reading = path.startsWith("chats/")
    const answer = await fetch(
      `${standin}/standin/${path}`,
      reading ? {} : { method: "POST", body: JSON.stringify(body) },
    )
    return answer.json()
  }
  for (const [at, act] of acts.entries()) {
    if (options.stopped()) return
    await act(post, cast)
    options.act?.(at + 1)
    await new Promise((resolve) => setTimeout(resolve, options.pause))
  }
}
