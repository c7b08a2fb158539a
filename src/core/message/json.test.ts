import { idAt, numberAt, readJson, textAt } from "./json.ts"

const read = (text: string) => readJson(Buffer.from(text))

test("ids too long for a number keep every digit", () => {
  expect(read('{"id":12345678901234567890,"n":7}')).toEqual({ id: "12345678901234567890", n: 7 })
  const endless = "1".repeat(400)
  expect(idAt(read(`{"id":${endless}}`), "id")).toBe(endless)
  expect(idAt(read('{"id":-1001234567890}'), "id")).toBe("-1001234567890")
})

test("a field of an unexpected type reads as absent", () => {
  const odd = read('{"text":7,"id":{"x":1},"n":"7","empty":""}')
  expect(textAt(odd, "text")).toBeUndefined()
  expect(textAt(odd, "empty")).toBeUndefined()
  expect(idAt(odd, "id")).toBeUndefined()
  expect(numberAt(odd, "n")).toBeUndefined()
  expect(textAt([1], "text")).toBeUndefined()
})

test.each(["", "{", "nul", "\u0000"])("%j is not JSON", (text) => {
  expect(() => read(text)).toThrow(SyntaxError)
})
