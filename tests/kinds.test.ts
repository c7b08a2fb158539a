import { readFileSync } from "node:fs"
import { join } from "node:path"
import type { Service } from "./support/harness.ts"
import { endAll, eventually, pause, startService, tempFolder } from "./support/harness.ts"
import type { KindStage } from "./support/kinds.ts"
import { kindsWithStandins, setKind } from "./support/kinds.ts"

const bot = {
  "bot.yaml": `
bot: quay
groups: always
routes:
  - { name: ask, when: { phrase: "boat" }, handler: { text: "Which boat?", choices: [ { id: "boat:morning", label: "Morning boat" }, { id: "boat:noon", label: "Noon boat" }, { id: "boat:evening", label: "Evening boat" } ] } }
  - { name: chosen, when: { choice: "boat:*" }, handler: chosen }
  - { name: greet, when: { command: start }, handler: { text: "Hello {{contact.name}}" } }
  - { name: card, when: { phrase: "card" }, handler: card }
  - { name: long, when: { phrase: "long" }, handler: long }
  - { name: quoted, when: { phrase: "what was that" }, handler: { text: "That was: {{message.quote}}" } }
  - { name: photo, when: { media: image }, handler: { text: "A fine photo, {{contact.name}}." } }
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

test.each(["whatsapp", "messenger"])(
  "on %s, which tells only an id, an answer comes with the words of what it answers",
  async (kind) => {
    const stage = await on(kind)
    await stage.says("ahoy")
    await stage.answered(1)
    const id = await eventually(
      async () => (await stage.messages({ direction: "out" })).items[0]?.providerId ?? undefined,
      "its id",
    )
    await stage.does("say", { text: "what was that", replyTo: id })
    expect((await stage.answered(2))[1]!.text).toBe("That was: You said ahoy")
    // Their own words, too; and what nobody knows stays out.
    const own = (await stage.messages({ direction: "in" })).items.find(({ text }) => text === "ahoy")!.providerId
    await stage.does("say", { text: "what was that", replyTo: own })
    expect((await stage.answered(3))[2]!.text).toBe("That was: ahoy")
    await stage.does("say", { text: "what was that", replyTo: "nobody.knows" })
    expect((await stage.answered(4))[3]!.text).toMatch(/^That was:\s*$/)
  },
)

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
    expect(passage.intake).toMatchObject({ verdict: { genuine: true }, answered: kind === "sms" ? 204 : 200 })
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
    const refused = await eventually(
      async () => (await service.client.passages({ channel: stage.key, genuine: false })).items[0],
      "the refused call",
    )
    expect(refused.stops[1]!.state).toBe("stopped")
  })
})

describe.each(kindsWithStandins)("on %s", (kind) => {
  test("a photo is answered at once and kept by its content, once however often it comes", async () => {
    const stage = await on(kind)
    for (const _time of [1, 2]) await stage.does("say", { photo: "scarf", text: "look" })
    await stage.answered(1)
    const kept = await eventually(async () => {
      const { items } = await stage.messages({ direction: "in" })
      const pieces = items.flatMap((item) => item.kept ?? [])
      return pieces.length === 2 && pieces.every((piece) => piece.state === "kept") ? pieces : undefined
    }, "the photo to be kept")
    expect(kept[0]).toMatchObject({ mime: "image/svg+xml", hash: kept[1]!.hash })
    const answer = await fetch(`${service.address}/api/v1/media/${kept[0]!.hash}`, {
      headers: { authorization: `Bearer ${readFileSync(join(service.home, "token"), "utf8").trim()}` },
    })
    expect(answer.headers.get("content-security-policy")).toContain("sandbox")
    expect(await answer.text()).toContain("scarf")
  })

  test("what is too large, or of a sort that is not wanted, is not kept, and says so", async () => {
    for (const [setting, why] of [
      [{ mediaLimit: 0.0001 }, "larger than"],
      [{ mediaTypes: "audio/*" }, "its sort"],
    ] as const) {
      const stage = await on(kind, setting)
      await stage.does("say", { photo: "scarf", text: "look" })
      await stage.answered(1)
      await eventually(async () => {
        const [message] = (await stage.messages({ direction: "in" })).items
        return message?.kept?.[0]?.state === "failed" && message.kept[0].why?.includes(why)
      }, `the reason: ${why}`)
    }
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

describe.each(kindsWithStandins.filter((kind) => kind !== "sms"))("on %s, where a doubt can be settled", (kind) => {
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
})

describe.each(["whatsapp", "messenger"])("on %s", (kind) => {
  test("the handshake is answered with the challenge; with another word it is refused", async () => {
    const stage = await on(kind)
    const ask = (token: string) =>
      fetch(`${service.address}/in/${stage.key}?hub.mode=subscribe&hub.challenge=4711&hub.verify_token=${token}`)
    const refused = await ask("guessed")
    expect([refused.status, await refused.text()]).toEqual([403, ""])
    const handshakes = (await service.client.passages({ channel: stage.key })).items
    expect(handshakes.some((handshake) => handshake.stops[1]!.why?.includes("the handshake's word"))).toBe(true)
    const page = await fetch(`${service.address}/in/${stage.key}`)
    expect([page.status, await page.text()]).toEqual([200, expect.stringContaining("This is the inlet")])
  })
})

describe.each(["whatsapp", "messenger", "slack"])("on %s", (kind) => {
  test("what was kept is sent on, brought to the provider once while it keeps it", async () => {
    const stage = await on(kind)
    await stage.does("say", { photo: "scarf", text: "look" })
    await stage.answered(1)
    const message = await eventually(async () => {
      const [found] = (await stage.messages({ direction: "in" })).items
      return found?.kept?.[0]?.hash ? found : undefined
    }, "the photo to be kept")
    const part = { part: "media", kind: "image", ref: `kept:${message.kept![0]!.hash}`, caption: "Is this yours?" }
    for (const n of [1, 2]) {
      await service.client.send({ to: message.conversation, replies: [part] })
      await eventually(
        async () => stage.seen().filter((one) => one.text.includes("Is this yours?")).length === n,
        "the picture to be sent on",
      )
    }
    const brought = stage.standin.stage.calls.filter((call) => /^(media|message_attachments)$/.test(call.name))
    expect(brought).toHaveLength(kind === "slack" ? 0 : 1)
    expect(stage.standin.stage.calls.filter((call) => !call.took)).toEqual([])
  })
})

describe.each(["sms by plain-json", "sms by oma-messaging"])("%s", (kind) => {
  test("a text is answered, its number is the choice it stands before, and the reply is seen to be delivered", async () => {
    const stage = await on(kind)
    await stage.says("boat")
    expect((await stage.answered(1))[0]!.text).toBe("Which boat?\n1. Morning boat\n2. Noon boat\n3. Evening boat")
    await stage.says("3")
    expect((await stage.answered(2))[1]!.text).toBe("chosen boat:evening")
    await eventually(
      async () => (await stage.messages({ direction: "out", status: "delivered" })).items.length === 2,
      "both to be delivered",
    )
  })
})

describe("on sms", () => {
  test("STOP ends all sending, by anybody, until START; YES is an answer but from somebody who had stopped", async () => {
    const stage = await on("sms")
    await stage.says("YES")
    expect((await stage.answered(1))[0]!.text).toBe("You said YES")
    await stage.says("Stop.")
    const [stopped] = await eventually(async () => {
      const { items } = await stage.messages({ direction: "in", status: "opted out" })
      return items.length === 1 ? items : undefined
    }, "the stop to be recorded")
    await stage.says("hello?")
    await eventually(
      async () => (await stage.messages({ direction: "in", status: "opted out" })).items.length === 2,
      "nothing to be answered",
    )
    await expect(
      service.client.send({ to: stopped!.conversation, replies: [{ part: "text", text: "Come back" }] }),
    ).rejects.toThrow("asked to be sent nothing more")
    await stage.says("yes")
    expect((await stage.answered(2))[1]!.text).toBe("You said yes")
    await stage.says("STOP")
    await stage.says("START")
    expect((await stage.answered(3))[2]!.text).toBe("You said START")
  })

  test("what waits when STOP comes is parked, not sent", async () => {
    const stage = await on("sms", { pauseBetween: [60, 60] })
    await stage.says("hello")
    await stage.answered(1)
    await stage.says("hello again")
    await eventually(
      async () => (await stage.messages({ direction: "out", status: "waiting" })).items.length === 1,
      "the second reply to wait",
    )
    await stage.says("STOP")
    await eventually(
      async () => (await stage.messages({ direction: "in", status: "opted out" })).items[0],
      "the stop to be recorded",
    )
    const parked = await eventually(async () => {
      const { items } = await service.client.parked({ channel: stage.key })
      return items[0]
    }, "the reply to be parked")
    expect(parked.reason).toContain("asked to be sent nothing more")
    expect(stage.seen()).toHaveLength(1)
  })

  test("HELP is answered although no route takes it, and a text says how many segments it took", async () => {
    const stage = await on("sms", { helpText: "Ferry help. STOP ends this." })
    await stage.says("help")
    expect((await stage.answered(1))[0]!.text).toBe("Ferry help. STOP ends this.")
    const passage = await eventually(async () => {
      const [reply] = (await stage.messages({ direction: "out" })).items
      const found = reply && (await service.client.passage(reply.id))
      return found?.paths[0]!.replies[0]!.attempts[0]
    }, "the attempt")
    expect(passage.name).toBe("message (1 segment, GSM 03.38)")
  })

  test("a sender without a number is read, kept and never answered", async () => {
    const stage = await on("sms by plain-json")
    stage.standin.stage.people.set("FERRYNEWS", { id: "FERRYNEWS", name: "" })
    await stage.does("say", { from: "FERRYNEWS", text: "hello" })
    const [message] = await eventually(async () => {
      const { items } = await stage.messages({ direction: "in" })
      return items[0]?.status === "own" ? items : undefined
    }, "the message")
    expect(message!.reason).toContain("no number to answer to")
  })
})

describe("on slack", () => {
  test("the address check is answered, and a post told of twice is one turn", async () => {
    const stage = await on("slack")
    expect(await stage.does("verify-address")).toMatchObject({ accepted: true })
    await stage.does("say", { channel: "C1", text: "<@UBOT> boat" })
    const room = () => stage.standin.stage.screen("C1").filter((one) => !one.mine)
    await eventually(async () => room().length > 0, "the answer")
    await pause(500)
    expect(room().map((one) => one.text)).toEqual(["Which boat?"])
    const [told] = (await stage.messages({ direction: "in" })).items
    expect(told).toMatchObject({ text: "boat", event: "text" })
  })

  test("a slash command is taken within three seconds and answered at its address, also where the bot is not in", async () => {
    const stage = await on("slack")
    const taken = await stage.does("command", { channel: "C2", command: "/start", text: "here" })
    expect(taken).toMatchObject({ status: 200, body: "" })
    expect(Number(taken.ms)).toBeLessThan(3000)
    const room = () => stage.standin.stage.screen("C2").filter((one) => !one.mine)
    await eventually(async () => room()[0]?.text === "Hello Inês Carvalho", "the answer")
    const passage = await eventually(async () => {
      const [reply] = (await stage.messages({ direction: "out" })).items
      const found = reply && (await service.client.passage(reply.id))
      return found?.paths[0]!.replies[0]!.attempts[0]
    }, "the attempt")
    expect(passage.name).toBe("response_url")
  })

  test("a thread is a conversation of its own; mentions, links and escapes read as people see them", async () => {
    const stage = await on("slack")
    const { id } = await stage.does("say", { channel: "C1", text: "boat" })
    await stage.does("say", {
      channel: "C1",
      thread: id,
      text: "see <https://ferry.example/?a=1&amp;b=2|the page> &amp; <#C1|quay-desk> &lt;3",
    })
    const items = await eventually(async () => {
      const { items: found } = await stage.messages({ direction: "in" })
      return found.length === 2 ? found : undefined
    }, "both")
    expect(items[0]!.conversation).not.toBe(items[1]!.conversation)
    expect(items[0]!.text).toBe("see the page & #quay-desk <3")
    // Either of the two conversations may be answered first.
    const inThread = (call: (typeof stage.standin.stage.calls)[0]) =>
      call.name === "chat.postMessage" && call.body.thread_ts === id && String(call.body.text).includes("&lt;3")
    await eventually(async () => stage.standin.stage.calls.some(inThread), "the answer in the thread")
  })

  test("a token that may not read files is told by the page that comes instead", async () => {
    const stage = await on("slack")
    const { world } = stage.standin as unknown as { world: { scopes: string[] } }
    world.scopes = world.scopes.filter((scope) => scope !== "files:read")
    await stage.does("say", { photo: "scarf", text: "look" })
    await eventually(async () => {
      const [message] = (await stage.messages({ direction: "in" })).items
      return message?.kept?.[0]?.why?.includes("a web page came instead")
    }, "the reason")
    await stage.answered(1)
  })

  test("a revoked token locks the channel out and says what to do", async () => {
    const stage = await on("slack")
    await stage.does("tell", { event: { type: "tokens_revoked", tokens: { bot: ["UBOT"] } } })
    const channel = await eventually(async () => {
      const found = await service.client.channel(stage.key)
      return found.state === "locked out" ? found : undefined
    }, "the channel to be locked out")
    expect(channel.remedy).toContain("botToken")
  })
})

describe.each(["whatsapp", "messenger", "slack"])("on %s", (kind) => {
  test("genuine calls that make no sense are kept and acknowledged, and the known message beside them is answered", async () => {
    const stage = await on(kind)
    const strange: { [kind: string]: object } = {
      whatsapp: { field: "hologram_update", value: { messages: [{ type: 7 }, null], depth: [[[[]]]] } },
      messenger: { field: "messages", event: { teleport: { to: 5 }, sender: { id: 9 } } },
      slack: { event: { type: "weather", wind: "x".repeat(100_000), item: null } },
    }
    await stage.does("tell", strange[kind])
    await stage.says("still there?")
    expect((await stage.answered(1))[0]!.text).toBe("You said still there?")
    const calls = (await service.client.passages({ channel: stage.key })).items
    expect(calls.length).toBeGreaterThanOrEqual(2)
  })
})
