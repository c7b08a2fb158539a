import type { Command } from "commander"
import { counted } from "../client/counted.ts"
import { connect } from "./context.ts"
import { asJson, colors, print, printMore, table } from "./output.ts"

/** `wobbet journal show | read`. */
export function journalCommands(program: Command): void {
  const journal = program
    .command("journal")
    .description("calls that wait on local disk, because they came while the database was away")

  journal
    .command("show")
    .description("its files, in their order: how many calls are whole, and what cannot be read")
    .option("--limit <n>", "how many at most, up to 20", "20")
    .option("--cursor <next>", "continue where the list before ended")
    .option("--json", "for programs")
    .action(async (options: { limit: string; cursor?: string; json?: boolean }) => {
      const { limit, cursor } = options
      const found = await connect().journal({ limit, ...(cursor === undefined ? {} : { cursor }) })
      if (asJson(options, found)) return
      table(
        ["state", "calls", "damaged", "bytes", "written by", { name: "file", whole: true }],
        found.items.map((file) => [
          file.state === "kept" ? colors.red(file.state) : file.state,
          String(file.calls),
          file.damaged > 0 ? colors.red(counted(file.damaged, "place")) : "none",
          String(file.bytes),
          file.own ? "this process" : file.writer,
          colors.dim(file.file),
        ]),
        "Nothing waits on local disk.",
      )
      printMore(found)
    })

  journal
    .command("read")
    .description("read in all that is whole now, also of files that are kept because of damage")
    .option("--json", "for programs")
    .action(async (options: { json?: boolean }) => {
      const found = await connect().readJournal()
      if (asJson(options, found)) return
      table(
        ["calls read in", "left", { name: "file", whole: true }],
        found.items.map((file) => [
          String(file.read),
          file.left > 0 ? colors.red(counted(file.left, "place")) : "nothing",
          colors.dim(file.file),
        ]),
        "There was nothing to read in.",
      )
      if (found.items.some((file) => file.left > 0))
        print(
          "What is left cannot be read. The files stay in the folder journal of the data directory: delete them when nobody needs them.",
        )
    })
}
