import type { ProfileFault } from "../client/types.ts"
import { colors, print, wrapped } from "./output.ts"

/** Each fault of a profile with its line, and what would be right. */
export function printFaults(file: string, faults: ProfileFault[]): void {
  for (const { line, says, remedy } of faults) {
    const at = `${file}:${line}`
    print(`${colors.red("✕")} ${colors.bold(at)}  ${wrapped(`${says}.`, at.length + 4)}`)
    print(`    ${colors.dim(wrapped(remedy, 4))}`)
  }
  print("", `${faults.length} ${faults.length === 1 ? "fault" : "faults"}; nothing was changed.`)
}
