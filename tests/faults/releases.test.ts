import type { Service, Standin } from "../support/harness.ts"
import {
  endAll,
  eventually,
  freshDatabase,
  hostsOf,
  isRunning,
  pause,
  Stage,
  startService,
  startStandin,
  tempFolder,
  writeFiles,
} from "../support/harness.ts"
import { longTest } from "../support/killTable.ts"
import { quayBot } from "../support/quayBot.ts"
import { bring, hookSecret, update } from "../support/updates.ts"

let standin: Standin
beforeAll(async () => {
  standin = await startStandin()
})
afterAll(endAll)

const called = (name: string) => ({
  ...quayBot,
  "bot.yaml": quayBot["bot.yaml"]!.replace("bot: quay", `bot: ${name}`),
})

test("four live releases, used in turn, keep their hosts: what a lane stands for stays ready", async () => {
  const database = await freshDatabase()
  const names = ["north", "east", "south", "west"]
  for (const name of names) await (await startService({ database, bot: tempFolder(called(name)) })).stop()
  const service = await startService({ database })
  const stages: Stage[] = []
  for (const name of names) stages.push(await Stage.set(service, standin, { bot: name, gather: 0, perSecond: 1000 }))
  const hosts: number[][] = []
  for (let round = 1; round <= 3; round++) {
    for (const stage of stages) {
      await stage.say("count")
      await stage.answered(round)
    }
    hosts.push(hostsOf(service).sort())
  }
  // Two warm hosts a release, and the same ones to the end.
  expect(hosts[0]!.length).toBeLessThanOrEqual(8)
  expect(hosts[2]).toEqual(hosts[1])
  expect(hosts[1]).toEqual(hosts[0])
  await service.stop()
  await eventually(async () => hosts[2]!.every((pid) => !isRunning(pid)), "no host to be left", 10)
}, 90_000)

longTest(
  "saves, good and bad, leave no process of a release that never went live",
  async () => {
    const bot = tempFolder(called("saved"))
    const service = await startService({ bot })
    const source = called("saved")["bot.yaml"]
    // What is saved before the folder is watched is not seen.
    await pause(1500)
    const saves = 50
    for (let n = 1; n <= saves; n++) {
      const isGood = n % 4 === 0
      const secret = isGood
        ? ""
        : `  - { name: locked${n}, when: { phrase: locked${n} }, handler: count, secrets: [NEVER_${n % 8}] }\n`
      writeFiles(bot, {
        "bot.yaml": source.replace(
          "routes:\n",
          `routes:\n  - { name: saved${n}, when: { phrase: saved${n} }, handler: count }\n${secret}`,
        ),
      })
      await eventually(async () => {
        const { faults, release } = await service.client.bot()
        return isGood
          ? faults.length === 0 && release !== undefined
          : faults.some(({ says }) => says.includes(`locked${n}`))
      }, `save ${n} to be taken or refused`)
    }
    // Those of the release that answers, and of two before it.
    await eventually(async () => hostsOf(service).length <= 2 * 3, "the others to have ended", 40)
    await service.stop()
  },
  180_000,
)

longTest(
  "a release that no lane stands for any more ends its hosts, once what runs in them has ended",
  async () => {
    const bot = tempFolder(called("moving"))
    const service: Service = await startService({ bot })
    const stage = await Stage.set(service, standin, { gather: 0, perSecond: 1000 })
    await service.client.changeChannel(stage.key, { secrets: { hookSecret } })
    await service.client.connectChannel(stage.key)
    await stage.say("count")
    await stage.answered(1)
    const first = hostsOf(service)
    await bring(service, stage.key, hookSecret, update(stage.person.id, "nap"))
    const { writeFiles } = await import("../support/harness.ts")
    for (const n of [1, 2, 3, 4]) {
      const { release } = await service.client.bot()
      writeFiles(bot, { "handlers/count.ts": quayBot["handlers/count.ts"]!.replace("{ n }", `{ n, version: ${n} }`) })
      await eventually(async () => (await service.client.bot()).release !== release, `version ${n}`)
    }
    expect((await stage.answered(2))[1]!.text).toBe("awake")
    await eventually(async () => first.every((pid) => !isRunning(pid)), "the first release's hosts to be gone", 45)
    // The newest, and those a lane may be moved back to at once.
    expect(hostsOf(service).length).toBeLessThanOrEqual(6)
    await service.stop()
  },
  90_000,
)
