import { Bucket } from "./bucket.ts"
import { retryAfter } from "./retry.ts"

test("a bucket lets so many through at once, then one at a time", () => {
  const bucket = new Bucket(20, 60, 0)
  for (let sent = 0; sent < 20; sent++) {
    expect(bucket.wait(0)).toBe(0)
    bucket.take(0)
  }
  expect(bucket.wait(0)).toBe(3000)
  expect(bucket.wait(3000)).toBe(0)
  bucket.take(3000)
  expect(bucket.full(3000)).toBe(false)
  expect(bucket.full(70_000)).toBe(true)
})

test("what the provider says about waiting is obeyed to the second, however full the bucket", () => {
  const bucket = new Bucket(30, 1, 0)
  bucket.holdUntil(7000, 0)
  expect(bucket.wait(0)).toBe(7000)
  expect(bucket.wait(6999)).toBe(1)
  expect(bucket.wait(7000)).toBe(0)
})

test("retries come later and later, never beyond two minutes, and end", () => {
  const ceilings = Array.from({ length: 9 }, (_, at) => retryAfter(at + 1, 10, () => 1)!)
  expect(ceilings).toEqual([...ceilings].sort((a, b) => a - b))
  expect(Math.max(...ceilings)).toBe(120_200)
  expect(retryAfter(3, 10, () => 0)).toBe(200)
  expect(retryAfter(10, 10, () => 1)).toBeUndefined()
})
