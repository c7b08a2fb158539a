import { every } from "./every.ts"

const pause = (milliseconds: number) => new Promise((resolve) => setTimeout(resolve, milliseconds))

test("a slow job is never under way twice, and one more asking while it runs is one more run", async () => {
  let running = 0
  let most = 0
  let runs = 0
  const job = every(
    5,
    async () => {
      most = Math.max(most, ++running)
      runs++
      await pause(30)
      running--
    },
    () => undefined,
  )
  await pause(10)
  await Promise.all([job.now(), job.now(), job.now()])
  expect(runs).toBe(2)
  await job.stop()
  const ended = runs
  await pause(30)
  expect({ most, running, more: runs - ended }).toEqual({ most: 1, running: 0, more: 0 })
})

test("a job that fails is told of and done again", async () => {
  const failures: unknown[] = []
  let runs = 0
  let ranAgain = () => {}
  const again = new Promise<void>((done) => (ranAgain = done))
  const job = every(
    5,
    async () => {
      if (++runs === 1) throw new Error("the tide is out")
      ranAgain()
    },
    (error) => failures.push(error),
  )
  await again
  await job.stop()
  expect(failures).toEqual([new Error("the tide is out")])
  expect(runs).toBeGreaterThan(1)
})
