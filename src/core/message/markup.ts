import MarkdownIt from "markdown-it"

export { escapeMarkup } from "./escapeMarkup.ts"

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

/** How deep quotes, lists and emphasis may be nested; a text with more is taken as it stands. */
const deepest = 20

/**
 * The reader takes time in linear measure of the text, whatever that holds: 1 to 3 ms a kilobyte at the worst, where
 * the one before it took seconds for four kilobytes of asterisks and underscores.
 */
const reader = new MarkdownIt("commonmark", { maxNesting: deepest }).disable([
  "heading",
  "lheading",
  "hr",
  "html_block",
  "html_inline",
  "code",
  "reference",
  "image",
])
// Addresses stay as they are written, also those that are written out in the end.
reader.validateLink = () => true
reader.normalizeLink = (url) => url
// A backslash at the end of a line is one.
const { ruler } = reader.inline
const rules = ruler.getRules("")
ruler.disable("escape")
const escape = rules.find((rule) => !ruler.getRules("").includes(rule))!
ruler.enable("escape")
ruler.at("escape", (state, silent) =>
  state.src.charCodeAt(state.pos) === 0x5c && state.src.charCodeAt(state.pos + 1) === 0x0a
    ? false
    : escape(state, silent),
)

export function readMarkup(source: string): MarkedText {
  if (isPlain(source)) return { text: source, spans: [] }
  const tokens = reader.parse(source, {})
  // What is nested deeper is left out by the reader.
  if (tokens.some((token) => token.level >= deepest - 1)) return { text: source, spans: [] }
  return new Writer().write(tokens)
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

type SpanShape = Span extends infer S ? (S extends Span ? Omit<S, "start" | "end"> : never) : never
type Token = ReturnType<typeof reader.parse>[number]

/** A list that is being written. */
interface OpenList {
  /** The next number; undefined for one with bullets. */
  number: number | undefined
  items: number
}

/** Writes what was read, in one pass over it. */
class Writer {
  private readonly out: MarkedText = { text: "", spans: [] }
  /** Stretches that have begun, by their place among the spans. */
  private readonly open: number[] = []
  private readonly lists: OpenList[] = []
  /** The line after the last that was written; undefined where the next block begins its container. */
  private line: number | undefined
  /** Whether the next block is the first of its list's item, behind the bullet. */
  private first = false

  write(tokens: Token[]): MarkedText {
    for (const token of tokens) this.block(token)
    return { text: this.out.text, spans: this.out.spans.filter((span) => span.end > span.start) }
  }

  private get indent(): string {
    return "   ".repeat(this.lists.length)
  }

  private block(token: Token): void {
    switch (token.type) {
      case "paragraph_open":
        return this.gap(token)
      case "inline":
        for (const child of token.children ?? []) this.inline(child)
        this.line = token.map![1]
        return
      case "fence":
        this.gap(token)
        return this.fence(token)
      case "blockquote_open":
        this.gap(token)
        this.line = undefined
        return this.begin({ kind: "quote" })
      case "blockquote_close":
        return this.end()
      case "bullet_list_open":
      case "ordered_list_open": {
        this.gap(token)
        const ordered = token.type === "ordered_list_open"
        this.lists.push({ number: ordered ? Number(token.attrGet("start") ?? 1) : undefined, items: 0 })
        return
      }
      case "bullet_list_close":
      case "ordered_list_close":
        this.lists.pop()
        this.first = false
        return
      case "list_item_open":
        return this.item(token)
      case "list_item_close":
        this.first = false
    }
  }

  /** Blocks are a line apart where they were, and two otherwise. */
  private gap(token: Token): void {
    const from = token.map?.[0] ?? 0
    if (this.first) this.first = false
    else if (this.line !== undefined) {
      const inItem = this.lists.length > 0
      this.out.text += (!inItem && from > this.line ? "\n\n" : "\n") + this.indent
    }
    this.line = from
  }

  private item(token: Token): void {
    const list = this.lists.at(-1)!
    const outer = "   ".repeat(this.lists.length - 1)
    if (list.items++ > 0) this.out.text += (token.map![0] > (this.line ?? 0) ? "\n\n" : "\n") + outer
    this.out.text += list.number === undefined ? "• " : `${list.number++}. `
    // Where nothing stands in it.
    this.line = token.map![0] + 1
    this.first = true
  }

  private fence(token: Token): void {
    const language = token.info.trim().split(/\s+/)[0]
    this.begin({ kind: "pre", ...(language ? { language } : {}) })
    this.out.text += token.content.replace(/\n$/, "")
    this.end()
    this.line = token.map![1]
  }

  private inline(token: Token): void {
    switch (token.type) {
      case "softbreak":
      case "hardbreak":
        this.out.text += `\n${this.indent}`
        return
      case "code_inline":
        this.begin({ kind: "code" })
        this.out.text += token.content
        return this.end()
      case "strong_open":
        return this.begin({ kind: "bold" })
      case "em_open":
        return this.begin({ kind: "italic" })
      case "strong_close":
      case "em_close":
        return this.end()
      case "link_open":
        return this.link(token)
      case "link_close":
        return this.endLink()
      default:
        this.out.text += token.content
    }
  }

  /** Addresses that no phone can open would vanish behind their words, so they are written out. */
  private readonly writtenOut: (string | undefined)[] = []

  private link(token: Token): void {
    const url = String(token.attrGet("href") ?? "")
    const opens = /^(https?:\/\/|mailto:|tel:|tg:|mention:)/i.test(url)
    this.writtenOut.push(opens ? undefined : url)
    if (opens) this.begin({ kind: "link", url })
  }

  private endLink(): void {
    const url = this.writtenOut.pop()
    if (url === undefined) this.end()
    else if (url !== "") this.out.text += ` (${url})`
  }

  private begin(shape: SpanShape): void {
    const at = this.out.text.length
    this.open.push(this.out.spans.push({ ...shape, start: at, end: at } as Span) - 1)
  }

  private end(): void {
    const at = this.open.pop()
    if (at !== undefined) this.out.spans[at]!.end = this.out.text.length
  }
}
