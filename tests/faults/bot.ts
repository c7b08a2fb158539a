/** Where what the campaign's bot asks elsewhere is answered. */
export interface Elsewhere {
  office: string
  model: string
  /** Where what is said in interviews is shown as well. */
  desk: { channel: string; place: number }
}

/** The campaign's bot: one that counts turns, one of every kind of handler, and handlers that misbehave in every way. */
export const campaignBot = ({ office, model, desk }: Elsewhere): { [path: string]: string } => ({
  "bot.yaml": `
bot: campaign
deadline: 10s
turnsPerMinute: 1000
models: { harbour: { address: "${model}", model: small } }
also: [{ name: desk, when: { channel: resending, phrase: "in the name of $word{name}" }, relay: { to: { channel: ${desk.channel}, place: "${desk.place}" } } }]
routes:
  - { name: tally, when: { phrase: "tally $integer{k} [of $word{who}]" }, handler: tally }
  - { name: booking, when: { phrase: "book seats" }, handler: booking }
  - { name: office, when: { phrase: "office $integer{k}" }, handler: { endpoint: "${office}/ask", within: 20s, fallback: "Nobody at the office." } }
  - { name: queue, when: { phrase: "baggage $integer{k}" }, handler: { queue: baggage, within: 60s, fallback: "Nobody at the desk." } }
  - { name: model, when: { phrase: "pilot $integer{k}" }, handler: { model: harbour, instructions: pilot.md, facts: facts.md, fallback: "The pilot is away." } }
  - { name: throws, when: { phrase: "throw" }, handler: throws }
  - { name: waits, when: { phrase: "wait for ever" }, handler: waits, deadline: 3s }
  - { name: spins, when: { phrase: "spin" }, handler: spins, deadline: 3s }
  - { name: hogs, when: { phrase: "hog" }, handler: hogs, deadline: 3s }
  - { name: slow, when: { phrase: "slow" }, handler: slow }
unrouted: { text: "What did you say?" }
`,
  "pilot.md": "You are a retired pilot.",
  "facts.md": "Dogs travel free, on a lead, at the stern of the boat, and with whoever brought them along.",
  // How many turns this conversation has had, beside the number that came with the message: they stay the same only if
  // every turn was taken once, in order, and state and reply were kept together.
  "handlers/tally.ts": `import { handler } from "wobbet"
export default handler(({ slots, state }) => { const n = Number(state.n ?? 0) + 1; return { replies: "#" + slots.k + " " + n, state: { n } } })`,
  "handlers/booking.ts": `import { answer, interview, once, pause, tell } from "wobbet"
export default interview(function* () {
  const seats = yield* answer.integer("How many seats?")
  const name = yield* answer.text("In which name?")
  const ticket = yield* once("book", async (key) => (await fetch("${office}/book/" + key)).text())
  yield* tell("Booked " + seats + ", " + name + ": " + ticket)
  yield* pause({ for: "1s" })
  yield* tell("Good trip.")
})`,
  "handlers/throws.ts": `export default () => { throw new Error("the fog is too thick") }`,
  "handlers/waits.ts": `export default () => new Promise(() => undefined)`,
  "handlers/spins.ts": `export default () => { for (;;) {} }`,
  "handlers/hogs.ts": `export default async () => { const held = []; for (;;) { held.push(new Array(20_000_000).fill(Math.random())); await new Promise((r) => setImmediate(r)) } }`,
  "handlers/slow.ts": `export default async () => { await new Promise((r) => setTimeout(r, 1500)); return "slowly" }`,
})
