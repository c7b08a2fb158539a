import type { Service, Standin } from "../support/harness.ts"
import {
  childrenOf,
  endAll,
  eventually,
  isRunning,
  pause,
  Stage,
  startProcess,
  startService,
  startStandin,
  tempFolder,
} from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import { startGateway } from "../support/gateway.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, crowd, hookSecret, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

describe("nobody waits for a bad handler", () => {
  let service: Service
  beforeAll(async () => {
    // A process of its own: whoever shares a loop with the tests cannot tell a host that is stuck from itself being late.
    service = await startProcess({ bot: tempFolder(quayBot) })
  })

  test.each([
    ["throws", "throw", "the fog is too thick"],
    ["waits for ever", "wait for ever", "did not answer within 2 s"],
    ["never leaves its loop", "spin", "loop never ends"],
  ])(
    "one that %s hurts only its own message, and its author learns why",
    async (_name, text, reason) => {
      const stage = await Stage.set(service, standin)
      await stage.say(text)
      const parked = await eventually(
        async () => {
          const { items } = await service.client.parked({ channel: stage.key })
          // Others are answered while this one fails.
          return items[0]
        },
        "the failed turn to be parked",
        40,
      )
      expect(parked).toMatchObject({
        what: "turn",
        cause: "handler failed",
        reason: expect.stringContaining(reason) as unknown,
      })
      await stage.say("say still here")
      expect((await stage.answered(1))[0]!.text).toBe("you said still here")
      const { paths } = await service.client.passage(parked.message)
      expect(paths[0]!.turns.map((turn) => turn.outcome)).toEqual(["failed", "failed", "parked"])
      expect(paths[0]!.turns[0]!.error!.message).toContain(reason)
    },
    60_000,
  )

  test("one that eats memory is stopped by the limit, long before its time is over", async () => {
    const patient = quayBot["bot.yaml"]!.replace("deadline: 2s", "deadline: 8s")
    const own = await startService({ bot: tempFolder({ ...quayBot, "bot.yaml": patient }) })
    const stage = await Stage.set(own, standin, { gather: 0 })
    await stage.say("hog")
    const parked = await eventually(
      async () => (await own.client.parked({ channel: stage.key })).items[0],
      "the failed turn to be parked",
      60,
    )
    expect(parked.reason).toContain("more memory")
    await stage.say("say still here")
    expect((await stage.answered(1))[0]!.text).toBe("you said still here")
    await own.stop()
  }, 90_000)

  test("a stack names the author's own file and line, and what it printed is kept", async () => {
    const stage = await Stage.set(service, standin)
    await stage.say("throw")
    const turn = await eventually(async () => {
      const [message] = await stage.messages({ direction: "in" })
      return (await service.client.passage(message!.id)).paths[0]!.turns[0]
    }, "the first failure")
    expect(turn.error!.stack).toMatch(/handlers\/throws\.ts:2/)
    expect(turn.log).toEqual(["about to fail"])
  })

  longTest(
    "others running beside one that spins are answered",
    async () => {
      const bad = await Stage.set(service, standin)
      const others = await Promise.all([1, 2, 3].map(() => Stage.set(service, standin)))
      await bad.say("spin")
      await Promise.all(others.map((other, at) => other.say(`slow ${at}`)))
      const answers = await Promise.all(others.map((other) => other.answered(1)))
      expect(answers.map(([first]) => first!.text)).toEqual(["slow 0", "slow 1", "slow 2"])
    },
    60_000,
  )

  test("what is said once a loop is stuck waits for nothing: a warm host takes all of it, and none runs twice", async () => {
    let begun = () => {}
    const spinning = new Promise<void>((done) => (begun = done))
    const { address } = await startGateway(() => (begun(), {}))
    const spins = `export default async () => { await fetch("${address}"); for (;;) {} }`
    const own = await startProcess({ bot: tempFolder({ ...quayBot, "handlers/spins.ts": spins }) })
    const bad = await Stage.set(own, standin, { gather: 0 })
    const others = await Promise.all([1, 2, 3, 4].map(() => Stage.set(own, standin, { gather: 0 })))
    await others[0]!.say("say warm")
    await others[0]!.answered(1)
    await bad.say("spin")
    await spinning
    // By then it has been silent for long enough to be noticed, and not for long enough to be given up.
    await pause(600)
    await Promise.all(others.map((other, n) => other.say(`fresh ${n}`)))
    const answers = await Promise.all(others.map((other, n) => other.answered(n === 0 ? 2 : 1)))
    expect(answers.map((said) => said.at(-1)!.text)).toEqual([0, 1, 2, 3].map((n) => `fresh ${n}`))
    await own.stop()
  }, 60_000)

  longTest(
    "fifty that take their time hold up nobody who is quick",
    async () => {
      // They sleep for much longer than a busy machine takes to begin fifty turns.
      const patient = quayBot["bot.yaml"]!.replace("deadline: 2s", "deadline: 40s")
      const naps = `export default async () => { await new Promise((r) => setTimeout(r, 8000)); return "awake" }`
      const own = await startService({
        bot: tempFolder({ ...quayBot, "bot.yaml": patient, "handlers/naps.ts": naps }),
      })
      const stage = await Stage.set(own, standin, { gather: 0, perSecond: 1000 })
      await own.client.changeChannel(stage.key, { secrets: { hookSecret } })
      const people = await crowd(stage, 52)
      const slow = people.slice(0, 50)
      await Promise.all(slow.map((chat) => bring(own, stage.key, hookSecret, update(chat, "nap"))))
      await bring(own, stage.key, hookSecret, update(people[50]!, "say quick"))
      await stage.answered(1, people[50])
      const slept = await Promise.all(slow.map((chat) => stage.answers(chat)))
      expect(slept.flat()).toEqual([])
      for (const chat of slow) expect((await stage.answered(1, chat))[0]!.text).toBe("awake")
      await own.stop()
    },
    90_000,
  )

  longTest(
    "one whose time is over goes on eating in its host: whoever else runs there is not blamed",
    async () => {
      const [bad, good] = [await Stage.set(service, standin), await Stage.set(service, standin)]
      // Its deadline passes while it waits; its host may still fall over it later.
      await bad.say("wait for ever")
      await pause(1200)
      for (let n = 0; n < 4; n++) await good.say(`slow ${n}`)
      const answers = await good.answered(4)
      expect(answers.map((answer) => answer.text)).toEqual([0, 1, 2, 3].map((n) => `slow ${n}`))
      expect((await service.client.parked({ channel: good.key })).items).toEqual([])
    },
    60_000,
  )

  test("a service that is killed leaves no handler behind, not even one that never leaves its loop", async () => {
    const own = await startProcess({ bot: tempFolder(quayBot) })
    const stage = await Stage.set(own, standin, { gather: 0 })
    await stage.say("spin")
    const hosts = await eventually(async () => {
      const children = childrenOf(own.child.pid!)
      return children.length > 0 && (await stage.messages({ direction: "in" })).length > 0 ? children : undefined
    }, "the host to run")
    await pause(500)
    await own.stop("SIGKILL")
    await eventually(async () => hosts.every((pid) => !isRunning(pid)), "the hosts to be gone", 5)
  }, 60_000)

  test("a handler sees nothing of the service's environment", async () => {
    const stage = await Stage.set(service, standin)
    await stage.say("say secret")
    expect((await stage.answered(1))[0]!.text).toBe("you said secret")
  })
})
