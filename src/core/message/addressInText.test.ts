import { formsOfAddress, namesAddress } from "./addressInText.ts"

test.each([
  ["+447700900123", '{"from":"447700900123"}', true],
  ["+447700900123", '{"from":"+447700900123"}', true],
  ["+447700900123", "From=%2B447700900123&Body=hi", true],
  ["+447700900123", "From=%2b447700900123", true],
  ["+447700900123", '{"from":"4477009001234"}', false],
  ["+447700900123", '{"from":"1447700900123"}', false],
  ["48123", '{"id":48123,"x":148123}', true],
  ["48123", '{"id":148123}', false],
  ["48123", '{"id":"a48123"}', false],
  ["ines@quay.example", "from=ines%40quay.example", true],
  ['in"es-quay', '{"from":"in\\"es-quay"}', true],
  ["U0INES", '{"text":"<@U0INES> is here"}', true],
  ["U0INES", '{"text":"<@U0INESX> is here"}', false],
  ["Łódź-1", "from=%C5%81%C3%B3d%C5%BA-1", true],
])("%s in %s: %s", (address, text, named) => {
  expect(namesAddress(text, address)).toBe(named)
})

test("an address that would be found everywhere is not looked for", () => {
  expect(formsOfAddress("42")).toEqual([])
  expect(namesAddress("42", "42")).toBe(false)
})

test("a long text in which it nearly stands takes no long time", () => {
  const began = performance.now()
  expect(namesAddress("447700900123".repeat(200_000), "+447700900123")).toBe(false)
  expect(performance.now() - began).toBeLessThan(5000)
})
