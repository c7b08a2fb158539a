import { existsSync, readFileSync } from "node:fs"
import { open } from "node:fs/promises"
import { join } from "node:path"
import { addressMark } from "../core/signature/addressMark.ts"
import type { MarkOf } from "./directory.ts"
import type { Remembered } from "./forgetting.ts"

/** The list of who was forgotten, beside the database: a line of JSON each, with keyed hashes instead of addresses. */
export function forgottenFile(home: string): string {
  return join(home, "forgotten.jsonl")
}

/** The keyed hashes of a service, by its seal key. */
export function marksBy(key: string): MarkOf {
  return (channel, address) => addressMark(Buffer.from(key, "hex"), channel, address)
}

/** Appends what is missing, synced before this ends. */
export async function rememberForgotten(file: string, remembered: Remembered[]): Promise<void> {
  const known = new Set(readForgotten(file).map(({ id }) => id))
  const missing = remembered.filter(({ id }) => !known.has(id))
  if (missing.length === 0) return
  const handle = await open(file, "a", 0o600)
  try {
    // A line that was cut off by a crash stays one line.
    const before = existsSync(file) ? readFileSync(file, "utf8") : ""
    const start = before === "" || before.endsWith("\n") ? "" : "\n"
    await handle.writeFile(start + missing.map((one) => `${JSON.stringify(one)}\n`).join(""))
    await handle.sync()
  } finally {
    await handle.close()
  }
}

/** What the list holds; lines that were cut off are left out. */
export function readForgotten(file: string): Remembered[] {
  if (!existsSync(file)) return []
  return readFileSync(file, "utf8")
    .split("\n")
    .flatMap((line) => {
      try {
        const { id, contact, at, marks } = JSON.parse(line) as Remembered
        return typeof id === "string" && Array.isArray(marks) ? [{ id, contact, at, marks }] : []
      } catch {
        return []
      }
    })
}
