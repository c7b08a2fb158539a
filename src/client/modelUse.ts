import type { ModelUse } from "./types.ts"

/** What is used of a model, each with its limit where there is one: "12 calls, 3,400 of 50,000 tokens, 0.02 in money". */
export function useWords(used: ModelUse, limits: Partial<ModelUse> = {}): string {
  const of = (name: keyof ModelUse) => amount(used[name]) + (limits[name] ? ` of ${amount(limits[name])}` : "")
  const calls = used.calls === 1 && !limits.calls ? "call" : "calls"
  const money = used.money > 0 || limits.money ? [`${of("money")} in money`] : []
  return [`${of("calls")} ${calls}`, `${of("tokens")} tokens`, ...money].join(", ")
}

const amount = (value: number) => value.toLocaleString("en", { maximumFractionDigits: value < 10 ? 4 : 2 })
