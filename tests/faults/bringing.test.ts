import { Client } from "../../src/client/client.ts"
import { endAll, pause, Stage, startProcess, startStandin, tempFolder } from "../support/harness.ts"
import { quayBot } from "../support/quayBot.ts"

afterAll(endAll)

test("promise 1: a call that is being kept for a service elsewhere when that one goes is handled here", async () => {
  const service = await startProcess({ bot: tempFolder(quayBot), faults: "inlet: call read=hold1500" })
  const stage = await Stage.set(service, await startStandin(), { gather: 0 })
  const { token } = await service.client.makeToken("laptop", "bring", stage.key)
  const laptop = new Client(service.address, token)
  await laptop.fetchCalls(stage.key, 0)
  await stage.say("count")
  await pause(500)
  expect(await laptop.stopFetching(stage.key)).toEqual({ handled: 0 })
  const said = await stage.answered(1)
  expect(said.map((one) => one.text)).toEqual(["count 1"])
})
