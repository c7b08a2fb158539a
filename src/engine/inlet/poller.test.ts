import { getEventListeners } from "node:events"
import { pause } from "./poller.ts"

test("a pause of the polling leaves nothing behind, however it ends", async () => {
  const round: Parameters<typeof pause>[1] = { abort: new AbortController() }
  const { signal } = round.abort
  for (let n = 0; n < 20; n++) await pause(1, round)
  expect(getEventListeners(signal, "abort")).toHaveLength(0)
  const woken = pause(60_000, round)
  round.wake!()
  await woken
  expect(getEventListeners(signal, "abort")).toHaveLength(0)
  const ended = pause(60_000, round)
  round.abort.abort()
  await ended
  expect(round.wake).toBeUndefined()
})
