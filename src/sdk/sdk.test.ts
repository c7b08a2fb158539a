import type { Card, MediaItem, Option } from "./index.ts"
import { cards, choices, media } from "./index.ts"

test.each<[string, () => unknown, string]>([
  [
    "a card",
    () => cards({ titel: "Holm Island" } as unknown as Card),
    '"titel" is no field of a card, which takes title',
  ],
  [
    "a card's choice",
    () => cards({ title: "Holm Island", choices: [{ id: "a", lable: "A" } as unknown as Option] }),
    '"lable" is no field of a card\'s choice',
  ],
  [
    "an option",
    () => choices("Which?", [{ id: "a", label: "A", utl: "" } as Option]),
    '"utl" is no field of an option',
  ],
  ["media", () => media({ kind: "image", src: "x" } as unknown as MediaItem), '"src" is no field of media'],
])("a misspelt field of %s is told where the part is made", (_name, make, says) => {
  expect(make).toThrow(says)
})

test("a misspelt field is a fault in the types", () => {
  // @ts-expect-error: the type-checker of a bot's author says so too
  expect(() => cards({ title: "Holm Island", subtitel: "Every hour" })).toThrow("subtitel")
})
