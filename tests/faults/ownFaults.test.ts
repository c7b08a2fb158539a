import { rmSync } from "node:fs"
import type { ParkedView } from "../../src/client/types.ts"
import type { Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  pause,
  placeFor,
  quiet,
  Stage,
  startProcess,
  startService,
  startStandin,
  writeFiles,
} from "../support/harness.ts"
import { long } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

test.each(["turn: line loaded", ...long("turn: handler chosen", "turn: handler answered")])(
  "a turn at which the service itself throws each time (%s) is parked, and what stands behind it is answered",
  async (point) => {
    const where = await placeFor(quayBot)
    const faults = [1, 2, 3].map((at) => `${point}=throw@${at}`).join()
    const service = await startProcess({ ...where, faults })
    const stage = await Stage.set(service, standin, { gather: 0 })
    await stage.say("say first")
    await stage.say("say second")
    await eventually(async () => (await stage.answers()).length > 0, "the second to be answered", 60)
    await quiet(where.database)
    expect((await stage.answers()).map(({ text }) => text)).toEqual(["you said second"])
    const { items } = await service.client.parked()
    expect(items).toMatchObject([{ cause: "service failed", text: "say first" }])
    expect(items[0]!.reason).toContain(`a fault of ours at "${point}"`)
    // Once the fault is gone, a person puts it back.
    await service.client.retryParked(items[0]!.id)
    expect((await stage.answered(2))[1]!.text).toBe("you said first")
  },
  90_000,
)

test("a turn that ends the process each time is tried alone, and parked; what was under way with it is answered once", async () => {
  const where = await placeFor(quayBot)
  // Whatever is said about poison ends the service while it is taken, as a fault of ours would that nobody catches.
  let ends = 0
  const start = async () => {
    for (;;) {
      try {
        return await startProcess({ ...where, faults: "turn: handler chosen=kill(poison)@0" })
      } catch {
        expect(++ends).toBeLessThan(8)
      }
    }
  }
  let service = await start()
  const stages: Stage[] = []
  for (let n = 0; n < 4; n++) stages.push(await Stage.set(service, standin, { gather: 0, onDoubt: "resend" }))
  const said = Promise.all(
    stages.map(async (stage, at) => {
      for (let n = 1; n <= 3; n++) await stage.say(at === 0 && n === 2 ? "say poison" : `say ${at} ${n}`)
    }),
  )
  let parked: ParkedView[] = []
  while (parked.length === 0) {
    const still = await Promise.race([service.ended.then(() => false), pause(500).then(() => true)])
    if (still)
      parked = await service.client.parked().then(
        ({ items }) => items,
        () => [],
      )
    else {
      expect(++ends).toBeLessThan(8)
      service = await start()
    }
  }
  await said
  expect(ends).toBe(4)
  expect(parked).toMatchObject([{ cause: "service failed", text: "say poison" }])
  expect(parked[0]!.reason).toContain("the service ended twice while it took this turn and nothing else")
  await quiet(where.database)
  for (const [at, stage] of stages.entries()) {
    const wanted = [1, 2, 3].filter((n) => at !== 0 || n !== 2).map((n) => `you said ${at} ${n}`)
    // A call that was under way when the process ended is made again, as the channels are told to.
    expect([...new Set((await stage.answers()).map(({ text }) => text))]).toEqual(wanted)
  }
}, 120_000)

test("a bot that has no code any more ends interviews as it does whose handler is gone, and answers", async () => {
  const where = await placeFor({
    "bot.yaml": "bot: tern\nroutes: [{ name: book, when: { phrase: book }, handler: book }]",
    "handlers/book.ts": `import { answer, interview } from "wobbet"
export default interview(function* () { return "Booked " + (yield* answer.integer("How many seats?")) })`,
  })
  let service = await startService(where)
  const stage = await Stage.set(service, standin, { gather: 0 })
  await stage.say("book")
  await stage.answered(1)
  await service.stop()
  rmSync(`${where.bot}/handlers`, { recursive: true })
  writeFiles(where.bot, {
    "bot.yaml": "bot: tern\nroutes: [{ name: book, when: { phrase: book }, handler: { text: Later. } }]",
  })
  service = await startService(where)
  await eventually(async () => (await service.client.bot()).release !== undefined, "the bot")
  await stage.say("3")
  await stage.say("book")
  const said = (await stage.answered(3)).map(({ text }) => text)
  expect(said[1]).not.toContain("Booked")
  expect(said[2]).toBe("Later.")
  expect((await service.client.parked()).items).toEqual([])
})
