import { changesOf } from "./changes.ts"

test("of two states only what is different is told, one level down where both are mappings", () => {
  const before = { topic: "lost", seats: 2, trip: { day: "2026-12-04", to: "Holm Island" }, old: true }
  const after = { topic: "lost", seats: 3, trip: { day: "2026-12-05", to: "Holm Island" }, ticket: "T7" }
  expect(changesOf(before, after)).toEqual([
    { field: "seats", was: 2, is: 3 },
    { field: "trip.day", was: "2026-12-04", is: "2026-12-05" },
    { field: "old", was: true },
    { field: "ticket", is: "T7" },
  ])
  expect(changesOf(after, after)).toEqual([])
  expect(changesOf(null, after)).toEqual([])
})
