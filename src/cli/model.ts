import type { Command } from "commander"
import { useOf } from "../client/modelUse.ts"
import type { ModelUse, ModelView } from "../client/types.ts"
import { connect } from "./context.ts"
import { asJson, colors, inLine, table, wideHelp } from "./output.ts"

/** `wobbet model list`. */
export function modelCommands(program: Command): void {
  const model = program.command("model").description("model servers that answer for bots")

  model
    .command("list")
    .description("all models: who asks them, and what is used of them today, of which limit")
    .option("--wide", wideHelp)
    .option("--json", "for programs")
    .action(list)
}

async function list(options: { json?: boolean; wide?: boolean }): Promise<void> {
  const found = await connect().models()
  if (asJson(options, found)) return
  table(
    [
      { name: "model", whole: true },
      "today",
      "calls",
      "tokens",
      "money",
      { name: "asked by", spare: true },
      { name: "bot", spare: true },
      { name: "server", spare: true },
    ],
    found.items.flatMap(linesOf),
    "No bot asks a model.",
  )
}

function linesOf({ name, bot, address, model, askedBy, used, limits }: ModelView): string[][] {
  const about = [
    askedBy.length > 0 ? inLine(askedBy.join(", "), 30) : colors.dim("no route"),
    inLine(bot, 24),
    colors.dim(inLine(`${model} at ${address}`, 48)),
  ]
  const line = (whose: string, use: ModelUse, most: Partial<ModelUse> | undefined) => {
    const { calls, tokens, money } = useOf(use, most)
    return [whose, calls, tokens, money]
  }
  if (!used) return [[inLine(name, 20), colors.dim("not counted: no prices, no limits"), "", "", "", ...about]]
  return [
    [inLine(name, 20), ...line("everybody", used.all, limits?.all), ...about],
    ...(limits?.person ? [["", ...line("most by one person", used.most, limits.person), "", "", ""]] : []),
  ]
}
