import MarkdownIt from "markdown-it"
import MiniSearch from "minisearch"

/** A passage of the folder's facts. */
export interface Fact {
  /** The file, and the headings it stands under. */
  from: string
  text: string
}

/** Characters of a passage; a longer section is several. */
const longest = 1200
/** Passages that go along with a question. */
const most = 6

const reader = new MarkdownIt("commonmark")

/** The passages of a Markdown file: each section by its headings, long ones in several pieces at a paragraph's end. */
export function factsIn(file: string, source: string): Fact[] {
  const lines = source.split("\n")
  const headings: string[] = []
  const facts: Fact[] = []
  let from = 0
  const section = (to: number) => {
    const under = headings.filter(Boolean).join(" › ")
    const name = under === "" ? file : `${file}: ${under}`
    for (const text of pieces(lines.slice(from, to).join("\n"))) facts.push({ from: name, text })
  }
  const tokens = reader.parse(source, {})
  for (const [at, token] of tokens.entries()) {
    if (token.type !== "heading_open" || token.level > 0) continue
    const [first, last] = token.map!
    section(first)
    const depth = Number(token.tag.slice(1))
    headings.length = Math.min(headings.length, depth - 1)
    headings[depth - 1] = tokens[at + 1]?.content ?? ""
    from = last
  }
  section(lines.length)
  return facts
}

function pieces(text: string): string[] {
  const found: string[] = []
  let piece = ""
  for (const paragraph of text.split(/\n\s*\n/).flatMap(cut)) {
    if (piece !== "" && piece.length + paragraph.length > longest) {
      found.push(piece)
      piece = ""
    }
    piece += (piece === "" ? "" : "\n\n") + paragraph
  }
  if (piece.trim() !== "") found.push(piece)
  return found.map((one) => one.trim()).filter((one) => one !== "")
}

function cut(paragraph: string): string[] {
  if (paragraph.length <= longest) return [paragraph]
  return Array.from({ length: Math.ceil(paragraph.length / longest) }, (_, at) =>
    paragraph.slice(at * longest, (at + 1) * longest),
  )
}

/** Finds the passages that fit what was asked, by their words: full-text search, ranked as BM25 does. */
export class FactSearch {
  private readonly index: MiniSearch<Fact & { id: number }>

  private constructor(private readonly facts: Fact[]) {
    this.index = new MiniSearch({
      fields: ["from", "text"],
      processTerm: (term) => {
        const plain = bare(term)
        return plain.length > 1 || /\d|\P{ASCII}/u.test(plain) ? plain : null
      },
      searchOptions: {
        boost: { from: 2 },
        prefix: (term) => term.length > 3,
        fuzzy: (term) => (term.length > 5 ? 0.2 : false),
      },
    })
    // Left empty here: a large folder takes a second.
  }

  /** Reads the facts, a few at a time: nobody else waits for all of them. */
  static async of(facts: Fact[]): Promise<FactSearch> {
    const search = new FactSearch(facts)
    await search.index.addAllAsync(
      facts.map((fact, id) => ({ ...fact, id })),
      { chunkSize: 50 },
    )
    return search
  }

  /** The passages that fit best, within so many characters; of few facts, all of them. */
  find(asked: string, room: number): Fact[] {
    const whole = this.facts.reduce((sum, { from, text }) => sum + from.length + text.length, 0)
    const ranked =
      this.facts.length <= most && whole <= room
        ? this.facts
        : near(this.index.search(asked.slice(0, 2000))).map(({ id }) => this.facts[id as number]!)
    const fitting: Fact[] = []
    let left = room
    for (const fact of ranked) {
      left -= fact.from.length + fact.text.length
      if (left < 0) break
      fitting.push(fact)
    }
    return fitting
  }
}

/** Those that fit not much worse than the best: words that every text has make hardly any difference. */
function near<Result extends { score: number }>(found: Result[]): Result[] {
  const least = (found[0]?.score ?? 0) / 3
  return found.slice(0, most).filter(({ score }) => score >= least)
}

/** Without accents, in small letters, and without the endings that English, German and Portuguese plurals have. */
function bare(term: string): string {
  const plain = term.normalize("NFKD").replace(/\p{M}/gu, "").toLowerCase()
  return plain.length > 4 ? plain.replace(/(es|s|en)$/, "") : plain.length > 3 ? plain.replace(/s$/, "") : plain
}
