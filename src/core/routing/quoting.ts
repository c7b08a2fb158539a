import type { Document, Scalar } from "yaml"
import { isMap, isScalar, isSeq } from "yaml"
import { phraseNodes } from "./phraseNodes.ts"

/** A phrase without quotation marks, which YAML reads as something else or may read so after the next edit. */
export interface Unquoted {
  /** Place in the source. */
  at: number
  says: string
  remedy: string
}

/** The phrases of a bot's routes and rules that hold a bracket or a brace and stand without quotation marks. */
export function unquotedPhrases(document: Document, source: string): Unquoted[] {
  const found: Unquoted[] = []
  const tell = (range: [number, number, number] | null | undefined, remedy: (written: string) => string) => {
    if (!range) return
    const written = source.slice(range[0], range[1]).trim()
    found.push({
      at: range[0],
      says: `the phrase ${written} stands without quotation marks, so that YAML reads its brackets`,
      remedy: remedy(written),
    })
  }
  const quoted = (written: string) => `Write ${JSON.stringify(written)}.`
  const phrase = (node: unknown): void => {
    if (isScalar(node)) {
      if (isPlain(node) && typeof node.value === "string" && /[[\]{}]/.test(node.value)) tell(node.range, quoted)
    } else if (isMap(node)) tell(node.range, quoted)
    else if (isSeq(node)) {
      const plain = node.flow && node.items.some((item) => !isScalar(item) || isPlain(item))
      if (!plain) node.items.forEach(phrase)
      else
        tell(node.range, (written) => {
          const each = node.items.map((item) => (isScalar(item) ? JSON.stringify(String(item.value)) : "…"))
          return `Write ${JSON.stringify(written)} for a phrase; or [${each.join(", ")}] for several.`
        })
    }
  }
  phraseNodes(document).forEach(phrase)
  const rules = document.get("rules", true)
  for (const { value } of isMap(rules) ? rules.items : []) {
    if (!isMap(value)) phrase(value)
    else if (value.flow && value.items.every((entry) => entry.value === null)) phrase(value)
    else for (const entry of value.items) phrase(entry.value)
  }
  return found
}

function isPlain(node: Scalar): boolean {
  return node.type === "PLAIN"
}

/** For a line that YAML cannot read: that its phrase has no quotation marks, and how it is written with them. */
export function quotedInLine(line: string): Omit<Unquoted, "at"> | undefined {
  const value = /\bphrase: +([^"'\s].*)$/.exec(line)?.[1]
  if (value === undefined || !/[[\]{}]/.test(value)) return undefined
  const phrase = value.replace(/\s\}(,.*)?$/, "").trimEnd()
  return {
    says: `the phrase ${phrase} stands without quotation marks, so that YAML reads its brackets`,
    remedy: `Write phrase: ${JSON.stringify(phrase)}.`,
  }
}
