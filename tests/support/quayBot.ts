/** A bot folder for tests: every sort of handler, well behaved and not. */
export const quayBot: { [path: string]: string } = {
  "bot.yaml": `
bot: quay
groups: always
zone: Asia/Tokyo
deadline: 2s
turnsPerMinute: 60
rules: { place: { Holm Island: "holm [island]" } }
routes:
  - { name: count, when: { phrase: "count" }, handler: count }
  - { name: slowly, when: { phrase: "count slowly" }, handler: slowly }
  - { name: greet, when: { command: [start, hello] }, handler: { text: "Hello {{contact.name}} {{slots.args}}" } }
  - { name: ask, when: { phrase: "ask" }, handler: { text: "Boat?", choices: [ { id: "boat:a-very-long-id-that-no-provider-would-take-as-it-is-because-of-its-length", label: "Yes" }, { id: "no", label: "No" } ] } }
  - { name: boat, when: { choice: "boat:*" }, handler: chosen }
  - { name: throws, when: { phrase: "throw" }, handler: throws }
  - { name: waits, when: { phrase: "wait for ever" }, handler: waits }
  - { name: spins, when: { phrase: "spin" }, handler: spins }
  - { name: slow, when: { phrase: "slow $integer{n}" }, handler: slow }
  - { name: fresh, when: { phrase: "fresh $integer{n}" }, handler: fresh }
  - { name: long, when: { phrase: "long" }, handler: long }
  - { name: edits, when: { event: edited }, handler: { text: "You changed it." } }
  - { name: hogs, when: { phrase: "hog" }, handler: hogs }
  - { name: naps, when: { phrase: "nap" }, handler: naps }
  - { name: echo, when: { phrase: "say $text{words}" }, handler: echo }
  - { name: sail, when: { phrase: "sail to $place $date{day}" }, handler: { text: "Sailing {{slots.day}}" } }
  - { name: photos, when: { media: any }, handler: photos }
`,
  "handlers/count.ts": `import { handler } from "wobbet"
export default handler(({ state }) => { const n = Number(state.n ?? 0) + 1; return { replies: "count " + n, state: { n } } })`,
  "handlers/slowly.ts": `import { handler } from "wobbet"
export default handler(async ({ state }) => { const n = Number(state.n ?? 0) + 1; await new Promise((r) => setTimeout(r, 300)); return { replies: "count " + n, state: { n } } })`,
  "handlers/chosen.ts": `import { amend, handler, text } from "wobbet"
export default handler(({ message }) => ({ replies: [text("You chose " + message.choice!.id + " (" + message.choice!.label + ")"), amend(message.replyTo!, { choices: [] })] }))`,
  "handlers/throws.ts": `import { handler } from "wobbet"
export default handler(() => { console.log("about to fail"); throw new Error("the fog is too thick") })`,
  "handlers/waits.ts": `export default () => new Promise(() => undefined)`,
  "handlers/spins.ts": `export default () => { for (;;) {} }`,
  "handlers/hogs.ts": `export default async () => { const held = []; for (;;) { held.push(new Array(2_000_000).fill(Math.random())); await new Promise((r) => setImmediate(r)) } }`,
  "handlers/naps.ts": `export default async () => { await new Promise((r) => setTimeout(r, 1500)); return "awake" }`,
  "handlers/slow.ts": `import { handler } from "wobbet"
export default handler(async ({ slots }) => { await new Promise((r) => setTimeout(r, 400)); return "slow " + slots.n })`,
  "handlers/fresh.ts": `import { handler } from "wobbet"
export default handler(async ({ slots, again }) => { await new Promise((r) => setTimeout(r, 300)); return (again ? "again " : "fresh ") + slots.n })`,
  "handlers/long.ts": `export default () => ({ replies: "A sentence of the timetable. ".repeat(300) })`,
  "handlers/echo.ts": `import { handler } from "wobbet"
export default handler(({ message, messages, slots }) => "you said " + slots.words + (messages.length > 1 ? " (" + messages.length + ")" : "") + (process.env.WOBBET_SEAL_KEY ?? "") )`,
  "handlers/photos.ts": `import { handler } from "wobbet"
export default handler(({ message }) => "photos: " + message.media!.map((one) => one.ref).join(" "))`,
}

/** Digits longer than an index of PostgreSQL takes, and too wild to be squeezed. */
export function longId(): string {
  return "1" + Array.from({ length: 20_000 }, () => Math.floor(Math.random() * 10)).join("")
}
