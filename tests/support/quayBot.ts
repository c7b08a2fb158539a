/** A bot folder for tests: every sort of handler, well behaved and not. */
export const quayBot: { [path: string]: string } = {
  "bot.yaml": `
bot: quay
deadline: 2s
turnsPerMinute: 60
routes:
  - { name: count, meets: { phrase: "count" }, handler: count }
  - { name: slowly, meets: { phrase: "count slowly" }, handler: slowly }
  - { name: greet, meets: { command: [start, hello] }, handler: { text: "Hello {{contact.name}} {{slots.args}}" } }
  - { name: ask, meets: { phrase: "ask" }, handler: { text: "Boat?", choices: [ { id: "boat:a-very-long-id-that-no-provider-would-take-as-it-is-because-of-its-length", label: "Yes" }, { id: "no", label: "No" } ] } }
  - { name: boat, meets: { choice: "boat:*" }, handler: chosen }
  - { name: throws, meets: { phrase: "throw" }, handler: throws }
  - { name: waits, meets: { phrase: "wait for ever" }, handler: waits }
  - { name: spins, meets: { phrase: "spin" }, handler: spins }
  - { name: slow, meets: { phrase: "slow {n as integer}" }, handler: slow }
  - { name: fresh, meets: { phrase: "fresh {n as integer}" }, handler: fresh }
  - { name: long, meets: { phrase: "long" }, handler: long }
  - { name: edits, meets: { event: edited }, handler: { text: "You changed it." } }
  - { name: hogs, meets: { phrase: "hog" }, handler: hogs }
  - { name: naps, meets: { phrase: "nap" }, handler: naps }
  - { name: echo, meets: { phrase: "say {words}" }, handler: echo }
  - { name: photos, meets: { media: any }, handler: photos }
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
  "handlers/hogs.ts": `export default async () => { const held = []; for (;;) { held.push(new Array(20_000_000).fill(Math.random())); await new Promise((r) => setImmediate(r)) } }`,
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
