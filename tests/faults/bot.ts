/** The campaign's bot: one that counts turns, and handlers that misbehave in every way. */
export const campaignBot: { [path: string]: string } = {
  "bot.yaml": `
bot: campaign
deadline: 3s
turnsPerMinute: 1000
routes:
  - { name: tally, when: { phrase: "tally $integer{k}" }, handler: tally }
  - { name: throws, when: { phrase: "throw" }, handler: throws }
  - { name: waits, when: { phrase: "wait for ever" }, handler: waits }
  - { name: spins, when: { phrase: "spin" }, handler: spins }
  - { name: hogs, when: { phrase: "hog" }, handler: hogs }
  - { name: slow, when: { phrase: "slow" }, handler: slow }
unrouted: { text: "What did you say?" }
`,
  // How many turns this conversation has had, beside the number that came with the message: they stay the same only if
  // every turn was taken once, in order, and state and reply were kept together.
  "handlers/tally.ts": `import { handler } from "wobbet"
export default handler(({ slots, state }) => { const n = Number(state.n ?? 0) + 1; return { replies: "#" + slots.k + " " + n, state: { n } } })`,
  "handlers/throws.ts": `export default () => { throw new Error("the fog is too thick") }`,
  "handlers/waits.ts": `export default () => new Promise(() => undefined)`,
  "handlers/spins.ts": `export default () => { for (;;) {} }`,
  "handlers/hogs.ts": `export default async () => { const held = []; for (;;) { held.push(new Array(20_000_000).fill(Math.random())); await new Promise((r) => setImmediate(r)) } }`,
  "handlers/slow.ts": `export default async () => { await new Promise((r) => setTimeout(r, 1500)); return "slowly" }`,
}
