import type { Service } from "./support/harness.ts"
import { endAll, eventually, pause, startService, tempFolder } from "./support/harness.ts"
import type { KindStage } from "./support/kinds.ts"
import { kindsWithStandins, setKind } from "./support/kinds.ts"

const bot = {
  "bot.yaml": `
bot: quay
routes:
  - { name: ask, meets: { phrase: "boat" }, handler: { text: "Which boat?", choices: [ { id: "boat:morning", label: "Morning boat" }, { id: "boat:noon", label: "Noon boat" }, { id: "boat:evening", label: "Evening boat" } ] } }
  - { name: chosen, meets: { choice: "boat:*" }, handler: chosen }
  - { name: greet, meets: { command: start }, handler: { text: "Hello {{contact.name}}" } }
  - { name: card, meets: { phrase: "card" }, handler: card }
  - { name: long, meets: { phrase: "long" }, handler: long }
  - { name: photo, meets: { media: image }, handler: { text: "A fine photo, {{contact.name}}." } }
unrouted: { text: "You said {{message.text}}" }
`,
  "handlers/chosen.ts": `import { handler } from "wobbet"
export default handler(({ message }) => "chosen " + message.choice!.id)`,
  "handlers/long.ts": `export default () => ({ replies: "A sentence of the timetable. ".repeat(300) })`,
  "handlers/card.ts": `import { cards } from "wobbet"
export default () => ({ replies: cards({ title: "Holm Island", subtitle: "Every hour", picture: "https://ferry.example/holm.png", choices: [ { id: "boat:outward", label: "Outward" }, { id: "boat:back", label: "Back again" } ] }) })`,
}

let service: Service
const stages: KindStage[] = []

async function on(kind: string, settings: object = {}): Promise<KindStage> {
  const stage = await setKind(service, kind, settings)
  stages.push(stage)
  return stage
}

beforeAll(async () => {
  service = await startService({ bot: tempFolder(bot) })
})
afterAll(async () => {
  await endAll()
  await Promise.all(stages.map((stage) => stage.stop()))
})

describe.each(kindsWithStandins)("on %s", (kind) => {
  test("a message is answered by name, and its passage tells every stop", async () => {
    const stage = await on(kind)
    await stage.says("Good day — is it windy?")
    expect((await stage.answered(1))[0]!.text).toBe("You said Good day — is it windy?")
    const passage = await eventually(async () => {
      const [message] = (await stage.messages({ direction: "in" })).items
      const found = message && (await service.client.passage(message.id))
      return found?.stops[5]!.state === "done" ? found : undefined
    }, "the reply to be on record")
    expect(passage.stops.slice(0, 6).map((stop) => stop.state)).toEqual(Array(6).fill("done"))
    expect(passage.intake).toMatchObject({ verdict: { genuine: true }, answered: 200 })
  })

  test("an option comes back as the same choice, pressed, typed as a number or typed by its words", async () => {
    const stage = await on(kind)
    const ways = [() => stage.presses("Noon boat"), () => stage.says("2"), () => stage.says("noon boat")]
    for (const [at, way] of ways.entries()) {
      await stage.says("boat")
      await stage.answered(at * 2 + 1)
      await way()
      expect((await stage.answered(at * 2 + 2)).at(-1)!.text).toBe("chosen boat:noon")
    }
    // Once the bot has said something else, a number is a number again.
    await stage.says("2")
    expect((await stage.answered(7)).at(-1)!.text).toBe("You said 2")
  })

  test("a card with a picture and two buttons brings back the button that was meant", async () => {
    const stage = await on(kind)
    for (const [at, way] of [() => stage.presses("Back again"), () => stage.says("2")].entries()) {
      await stage.says("card")
      const shown = await eventually(
        async () => stage.seen().find((one, place) => place >= at * 2 && /Holm Island/.test(one.text)),
        "the card",
      )
      expect(shown.text).toContain("Every hour")
      const before = stage.seen().length
      await way()
      expect((await stage.answered(before + 1)).at(-1)!.text).toBe("chosen boat:back")
    }
  })

  test("a long text arrives whole and in order", async () => {
    const stage = await on(kind)
    await stage.says("long")
    const whole = "A sentence of the timetable. ".repeat(300).trim()
    await eventually(
      async () =>
        stage
          .seen()
          .map((one) => one.text)
          .join(" ") === whole,
      "the whole text",
    )
  })

  test("a call that comes twice is answered once; a forged one is refused and kept", async () => {
    const stage = await on(kind)
    await stage.does("faults", { kind: "duplicates", count: 1 })
    await stage.says("hello twice")
    await stage.answered(1)
    await pause(400)
    expect(stage.seen()).toHaveLength(1)
    const forged = await fetch(`${service.address}/in/${stage.key}`, { method: "POST", body: '{"text":"forged"}' })
    expect(forged.status).toBe(401)
    expect(await forged.text()).toBe("")
    const [refused] = (await service.client.passages({ channel: stage.key, genuine: false })).items
    expect(refused!.stops[1]!.state).toBe("stopped")
  })
})

describe.each(kindsWithStandins.filter((kind) => kind !== "slack"))("on %s, whose provider tells", (kind) => {
  test("a reply is seen to be delivered, never going back", async () => {
    const stage = await on(kind)
    await stage.says("hello")
    const status = async () => (await stage.messages({ direction: "out" })).items[0]?.status
    const last = kind === "sms" ? "delivered" : "read"
    await eventually(async () => (await status()) === last, `the status ${last}`)
    await stage.does("late-status", { status: "sent" })
    await pause(300)
    expect(await status()).toBe(last)
  })
})

describe.each(kindsWithStandins.filter((kind) => kind === "whatsapp" || kind === "messenger"))("on %s", (kind) => {
  test("a reply whose answer was lost is settled by the provider's own word, and not sent again", async () => {
    const stage = await on(kind)
    await stage.does("faults", { kind: "drop", count: 1 })
    await stage.says("hello")
    await stage.answered(1)
    const reply = await eventually(async () => {
      const [found] = (await stage.messages({ direction: "out" })).items
      return found && ["sent", "delivered", "read"].includes(found.status) ? found : undefined
    }, "the doubt to be settled")
    const passage = await service.client.passage(reply.id)
    const { attempts } = passage.paths[0]!.replies[0]!
    expect(attempts).toMatchObject([
      { outcome: "accepted", why: expect.stringContaining("told that it has") as unknown },
    ])
    expect(stage.seen()).toHaveLength(1)
  })

  test("the handshake is answered with the challenge; with another word it is refused", async () => {
    const stage = await on(kind)
    const ask = (token: string) =>
      fetch(`${service.address}/in/${stage.key}?hub.mode=subscribe&hub.challenge=4711&hub.verify_token=${token}`)
    const refused = await ask("guessed")
    expect([refused.status, await refused.text()]).toEqual([403, ""])
    const handshakes = (await service.client.passages({ channel: stage.key })).items
    expect(handshakes.some((one) => one.stops[1]!.why?.includes("the handshake's word"))).toBe(true)
    const page = await fetch(`${service.address}/in/${stage.key}`)
    expect([page.status, await page.text()]).toEqual([200, expect.stringContaining("This is the inlet")])
  })
})
