import type { ModelUse } from "./types.ts"

/** What is used of a model, each with its limit where there is one: "12 calls, 3,400 of 50,000 tokens, 0.02 in money". */
export function useWords(used: ModelUse, limits?: Partial<ModelUse>): string {
  const { calls, tokens, money } = useOf(used, limits)
  const said = [`${calls} ${calls === "1" ? "call" : "calls"}`, `${tokens} tokens`]
  if (used.money > 0 || limits?.money) said.push(`${money} in money`)
  return said.join(", ")
}

/** Each of what is used, with its limit where there is one: "3,400 of 50,000". */
export function useOf(used: ModelUse, limits: Partial<ModelUse> = {}): { [name in keyof ModelUse]: string } {
  const of = (name: keyof ModelUse) => amount(used[name]) + (limits[name] ? ` of ${amount(limits[name])}` : "")
  return { calls: of("calls"), tokens: of("tokens"), money: of("money") }
}

const amount = (value: number) =>
  value.toLocaleString("en", value < 10 ? { maximumSignificantDigits: 3 } : { maximumFractionDigits: 2 })
