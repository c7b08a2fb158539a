import type { Nodes } from "mdast"
import { fromMarkdown } from "mdast-util-from-markdown"

/**
 * Light markup, read once into plain text with formatted stretches; each channel kind writes it in its own way.
 * Bold, italic, code, link, list and quote are formatting. Everything else CommonMark knows is taken literally, so
 * that nothing a person should read disappears.
 */
export interface MarkedText {
  text: string
  /** Nested or side by side, never crossing. Offsets count UTF-16 units. */
  spans: Span[]
}

export type Span = { start: number; end: number } & (
  { kind: "bold" | "italic" | "code" | "quote" } | { kind: "pre"; language?: string } | { kind: "link"; url: string }
)

const literal = [
  "headingAtx",
  "setextUnderline",
  "thematicBreak",
  "htmlFlow",
  "htmlText",
  "codeIndented",
  "definition",
  "labelStartImage",
  "hardBreakEscape",
]

export function readMarkup(source: string): MarkedText {
  if (isPlain(source)) return { text: source, spans: [] }
  const tree = fromMarkdown(source, { extensions: [{ disable: { null: literal } }] })
  const out: MarkedText = { text: "", spans: [] }
  writeBlocks(tree, out, "")
  return out
}

/**
 * Whether a text surely reads as itself: one paragraph without a character that could be markup. Most replies do, and
 * reading them as CommonMark took 11 % of all processor time under load.
 */
function isPlain(source: string): boolean {
  return !/[\\`*_[\]<>&!~\n\r\t\0]|^\s|\s$|^([-+#]|\d+[.)])|\S@\S|https?:|www\./.test(source)
}

/** Text without any markup, as a marked text: for names, labels and other people's words. */
export function plainText(text: string): MarkedText {
  return { text, spans: [] }
}

/** Makes foreign words safe inside light markup: they come out as they went in. */
export function escapeMarkup(text: string): string {
  return text
    .replace(/[\\`*_[\]<>&!]/g, "\\$&")
    .replace(/^(\s*)([-+]|\d+[.)])(\s)/gm, (_all, lead: string, mark: string, gap: string) => {
      return `${lead}${mark.slice(0, -1)}\\${mark.slice(-1)}${gap}`
    })
}

type Parent = Extract<Nodes, { children: unknown }>

function writeBlocks(parent: Parent, out: MarkedText, indent: string): void {
  let previousLine: number | undefined
  for (const child of parent.children as Nodes[]) {
    if (previousLine !== undefined) {
      const gap = (child.position?.start.line ?? previousLine + 2) - previousLine
      out.text += gap > 1 ? "\n\n" : "\n"
    }
    writeBlock(child, out, indent)
    previousLine = child.position?.end.line
  }
}

function writeBlock(node: Nodes, out: MarkedText, indent: string): void {
  switch (node.type) {
    case "paragraph":
      writeInline(node, out, indent)
      return
    case "blockquote":
      return within(out, { kind: "quote" }, () => writeBlocks(node, out, indent))
    case "code":
      return within(
        out,
        { kind: "pre", ...(node.lang ? { language: node.lang } : {}) },
        () => void (out.text += node.value),
      )
    case "list": {
      let number = node.start ?? 1
      node.children.forEach((item, index) => {
        if (index > 0) out.text += node.spread ? `\n\n${indent}` : `\n${indent}`
        out.text += node.ordered ? `${number++}. ` : "• "
        item.children.forEach((block, at) => {
          const inner = `${indent}   `
          if (at > 0) out.text += `\n${inner}`
          writeBlock(block, out, inner)
        })
      })
      return
    }
    default:
      writeInline(node, out, indent)
  }
}

function writeInline(node: Nodes, out: MarkedText, indent: string): void {
  switch (node.type) {
    case "text":
      out.text += indent ? node.value.replaceAll("\n", `\n${indent}`) : node.value
      return
    case "break":
      out.text += `\n${indent}`
      return
    case "inlineCode":
      return within(out, { kind: "code" }, () => void (out.text += node.value))
    case "strong":
      return within(out, { kind: "bold" }, () => writeChildren(node, out, indent))
    case "emphasis":
      return within(out, { kind: "italic" }, () => writeChildren(node, out, indent))
    case "link":
      // An address no phone can open would vanish behind its words, so it is written out.
      if (!/^(https?:\/\/|mailto:|tel:|tg:)/i.test(node.url)) {
        writeChildren(node, out, indent)
        out.text += node.url ? ` (${node.url})` : ""
        return
      }
      return within(out, { kind: "link", url: node.url }, () => writeChildren(node, out, indent))
    default:
      if ("children" in node) writeChildren(node, out, indent)
      else if ("value" in node) out.text += node.value
  }
}

function writeChildren(node: Parent, out: MarkedText, indent: string): void {
  for (const child of node.children as Nodes[]) writeInline(child, out, indent)
}

type SpanShape = Span extends infer S ? (S extends Span ? Omit<S, "start" | "end"> : never) : never

function within(out: MarkedText, shape: SpanShape, write: () => void): void {
  const start = out.text.length
  const at = out.spans.length
  write()
  if (out.text.length > start) out.spans.splice(at, 0, { ...shape, start, end: out.text.length } as Span)
}
