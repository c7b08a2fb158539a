import { randomInt } from "node:crypto"
import { joinCodeIn, newJoinCode } from "./joinCode.ts"

test("a code is found however it is written, and in nothing else", () => {
  for (let n = 0; n < 200; n++) {
    const code = newJoinCode((below) => randomInt(below))
    expect(joinCodeIn(code)).toBe(code)
    expect(joinCodeIn(` ${code.toLowerCase().replace("-", " ")}. `)).toBe(code)
    expect(joinCodeIn(code.replace("-", ""))).toBe(code)
    expect(joinCodeIn(`my code is ${code}`)).toBeUndefined()
  }
  for (const text of ["pancakes", "20261128", "AB12-CD34-EF56", "two seats", "", "AB01-CD10"])
    expect(joinCodeIn(text)).toBeUndefined()
})
