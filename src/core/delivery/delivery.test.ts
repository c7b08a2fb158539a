import fc from "fast-check"
import { Rate } from "./rate.ts"
import { retryAfter } from "./retry.ts"

test("a rate lets so many through in any stretch of time, not more in the first", () => {
  const rate = new Rate(20, 60)
  for (let sent = 0; sent < 20; sent++) {
    expect(rate.wait(sent * 100)).toBe(0)
    rate.take(sent * 100)
  }
  expect(rate.wait(2000)).toBe(58_000)
  expect(rate.wait(60_000)).toBe(0)
  rate.take(60_000)
  expect(rate.wait(60_000)).toBe(100)
  expect(rate.idle(119_999)).toBe(false)
  expect(rate.idle(120_000)).toBe(true)
})

test("never more than the count in any stretch, whenever they come", () => {
  fc.assert(
    fc.property(
      fc.array(fc.integer({ min: 0, max: 900 }), { maxLength: 80 }),
      fc.integer({ min: 1, max: 6 }),
      (gaps, count) => {
        const rate = new Rate(count, 2)
        const sent: number[] = []
        let now = 0
        for (const gap of gaps) {
          now += gap
          now += rate.wait(now)
          rate.take(now)
          sent.push(now)
        }
        for (const at of sent)
          expect(sent.filter((time) => time >= at && time < at + 2000).length).toBeLessThanOrEqual(count)
      },
    ),
  )
})

test("a rate below one a second, and a broken one", () => {
  const slow = Rate.perSecond(0.5)
  slow.take(0)
  expect(slow.wait(0)).toBe(2000)
  const broken = Rate.perSecond(2.5)
  broken.take(0)
  broken.take(0)
  expect(broken.wait(0)).toBe(800)
})

test("what the provider says about waiting is obeyed to the second", () => {
  const rate = new Rate(30, 1)
  rate.holdUntil(7000)
  expect(rate.wait(0)).toBe(7000)
  expect(rate.wait(6999)).toBe(1)
  expect(rate.wait(7000)).toBe(0)
})

test("retries come later and later, never beyond two minutes, and end", () => {
  const ceilings = Array.from({ length: 9 }, (_, at) => retryAfter(at + 1, 10, () => 1)!)
  expect(ceilings).toEqual([...ceilings].sort((a, b) => a - b))
  expect(Math.max(...ceilings)).toBe(120_200)
  expect(retryAfter(3, 10, () => 0)).toBe(200)
  expect(retryAfter(10, 10, () => 1)).toBeUndefined()
})
