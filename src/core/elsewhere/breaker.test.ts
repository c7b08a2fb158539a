import { Breaker } from "./breaker.ts"

test("one whose own turns fail is left alone by itself, and nobody else notices", () => {
  const breaker = new Breaker()
  for (let n = 0; n < 20; n++) expect(breaker.fails(n, "it answered 500", "stranger")).toBe(false)
  expect(breaker.state).toBe("closed")
  expect(breaker.wait(20, "stranger")).toBeGreaterThan(1000)
  expect(breaker.wait(20, "bystander")).toBe(0)
  // Somebody else's success does not let the stranger in at once.
  breaker.succeeded("bystander")
  expect(breaker.wait(20, "stranger")).toBeGreaterThan(1000)
  expect(breaker.wait(200_000, "stranger")).toBe(0)
  breaker.succeeded("stranger")
  expect(breaker.wait(200_001, "stranger")).toBe(0)
})

test("where several fail it opens for all, and a turn that has not failed there tries first", () => {
  const breaker = new Breaker()
  for (const who of ["a", "b", "a", "b"]) expect(breaker.fails(0, "down", who)).toBe(false)
  expect(breaker.fails(0, "down", "c")).toBe(true)
  expect(breaker.state).toBe("open")
  expect(breaker.wait(1000, "d")).toBe(9000)
  expect(breaker.wait(10_000, "a")).toBe(3000)
  expect(breaker.failed).toEqual(["a", "b", "c"])
  expect(breaker.wait(10_000, "d")).toBe(0)
  // One at a time.
  expect(breaker.wait(10_001, "e")).toBe(1000)
  expect(breaker.fails(10_002, "down", "d")).toBe(true)
  expect(breaker.wait(10_003, "e")).toBe(19_999)
  // Where nobody else comes, one that failed tries.
  expect(breaker.wait(33_003, "a")).toBe(0)
  expect(breaker.succeeded("a")).toBe(true)
  expect(breaker.wait(33_004, "d")).toBe(0)
  expect(breaker.failed).toEqual([])
})

test("it is left alone for as long as it asks, and remembers no more conversations than it may", () => {
  const breaker = new Breaker()
  breaker.leaveAlone(0, 10 * 3_600_000)
  expect(breaker.wait(1, "a")).toBe(3_599_999)
  for (let n = 0; n < 3000; n++) breaker.fails(0, "down", `c${n}`)
  expect(breaker.failed).toHaveLength(1000)
})
