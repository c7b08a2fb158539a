import type { Command } from "commander"
import { useWords } from "../client/modelUse.ts"
import type { ModelView } from "../client/types.ts"
import { connect } from "./context.ts"
import { asJson, colors, inLine, table } from "./output.ts"

/** `wobbet model list`. */
export function modelCommands(program: Command): void {
  const model = program.command("model").description("model servers that answer for bots")

  model
    .command("list")
    .description("all models: who asks them, and what is used of them today, of which limit")
    .option("--json", "for programs")
    .action(list)
}

async function list(options: { json?: boolean }): Promise<void> {
  const found = await connect().models()
  if (asJson(options, found)) return
  table(
    ["model", "bot", "server", "asked by", "today", "most by one person"],
    found.items.map((one) => [
      inLine(one.name, 20),
      inLine(one.bot, 24),
      colors.dim(inLine(`${one.model} at ${one.address}`, 48)),
      one.askedBy.length > 0 ? inLine(one.askedBy.join(", "), 30) : colors.dim("no route"),
      ...used(one),
    ]),
    "No bot asks a model.",
  )
}

function used({ used, limits }: ModelView): [string, string] {
  if (!used) return [colors.dim("not counted: it has neither prices nor limits"), ""]
  return [useWords(used.all, limits?.all), limits?.person ? useWords(used.most, limits.person) : ""]
}
