import { LinkifyIt } from "linkify-it"
import { escapeMarkup, readMarkup } from "../message/markup.ts"
import { withoutEnd } from "../message/trimmed.ts"

/** What a model said, as it may be said, and what was changed. */
export interface Allowed {
  text: string
  notes: string[]
}

/** What a model's words are held to. */
export interface Bounds {
  /** Characters. */
  length: number
  /** Where links must stand already; undefined where any may be named. */
  linksIn?: string[]
  /** What was said and told before: scripts that stand there may be used. */
  heard: string[]
}

/** Holds what a model said to what it may say; or tells why it cannot be said at all. */
export function allowed(said: string, { length, linksIn, heard }: Bounds): Allowed | { unfit: string } {
  const foreign = foreignScript(said, heard)
  if (foreign) return { unfit: `it answered in a script that nobody used here: ${foreign}` }
  const notes: string[] = []
  // What will be cut off anyway is not looked through.
  const looked = said
    .trim()
    .slice(0, length * 3 + 1000)
    .toWellFormed()
  let text = withoutMentions(asLightMarkup(looked))
  if (linksIn) text = withoutOtherLinks(text, linksOf(linksIn.join("\n")), notes)
  if (text.length > length) {
    notes.push(`the answer has ${text.length} characters, and was cut to ${length}`)
    text = cutAtWord(text, length)
  }
  return text.trim() === "" ? { unfit: "nothing of its answer may be said" } : { text, notes }
}

/** A model mentions nobody: names stand alone, however the mention is written. */
function withoutMentions(text: string): string {
  const plain = text.replace(/\[([^[\]]*)\]\(\s*(?:<\s*)?mention:[^()[\]]*\)/gi, "$1")
  const read = readMarkup(plain)
  const hidden = read.spans.some((span) => span.kind === "link" && /^mention:/i.test(span.url))
  return hidden ? escapeMarkup(read.text) : plain
}

/** What is no light markup but has a plain counterpart in it: headings are bold, pictures are their words. */
function asLightMarkup(text: string): string {
  return text
    .replace(/^ {0,3}#{1,6} (.+)$/gm, (all, words: string) => {
      const heading = withoutEnd(words, " #").trim()
      return heading === "" ? all : `**${heading.replaceAll("**", "")}**`
    })
    .replace(/^ {0,3}(?:-{3,}|\*{3,}|_{3,}) *$\n?/gm, "")
    .replace(/!\[/g, "[")
    .replace(/\n{3,}/g, "\n\n")
}

/** Finds addresses as people's programs do. */
const finder = new LinkifyIt()
/** And names alone that may be an address, whatever they end in. */
const named =
  /(?<![\w@.-])[\w-]{2,}(?:\.[\w-]+)*\.(?:[a-z]{2,24}|[A-Z]{2,24}|[A-Za-z]{2,24}(?=[/?#]))(?![\w-])(?:[/?#:]\S*)?/g

interface Found {
  url: string
  index: number
  lastIndex: number
}

/** What people's programs may turn into links in a text, in order. */
function addressesIn(text: string): Found[] {
  const found: Found[] = finder.match(text) ?? []
  const others = [...text.matchAll(named)]
    .map(({ 0: url, index }) => ({ url, index, lastIndex: index + url.length }))
    .filter((one) => !found.some(({ index, lastIndex }) => one.index < lastIndex && index < one.lastIndex))
  return [...found, ...others].sort((one, other) => one.index - other.index)
}

/** Every link of a text, in one form. */
function linksOf(text: string): Set<string> {
  const { text: words, spans } = readMarkup(text)
  const named = spans.flatMap((span) => (span.kind === "link" ? [span.url] : []))
  const written = [text, words].flatMap(addressesIn).map(({ url }) => url)
  return new Set([...named, ...written].map(oneForm))
}

function oneForm(url: string): string {
  const whole = /^[a-z][a-z0-9+.-]*:/i.test(url) ? url : `http://${url}`
  if (!URL.canParse(whole)) return url
  const { host, pathname, search } = new URL(whole)
  return `${host}${withoutEnd(pathname, "/")}${search}`.replace(/^www\./, "")
}

const leftOut = (url: string) => `a link was left out that the facts do not hold: ${url.slice(0, 200)}`

function withoutOtherLinks(text: string, known: Set<string>, notes: string[]): string {
  const isOther = (url: string) => !url.startsWith("mailto:") && !known.has(oneForm(url))
  const kept = text.replace(/\[([^[\]]*)\]\((?=\s*<?([^()\s>]*))[^()[\]]*\)/g, (all, label: string, url: string) => {
    if (!isOther(url)) return all
    notes.push(leftOut(url))
    return label
  })
  const read = readMarkup(kept)
  const others = addressesIn(read.text).filter(({ url }) => isOther(url))
  const hidden = read.spans.some((span) => span.kind === "link" && isOther(span.url))
  if (others.length === 0 && !hidden) return kept
  // What remains is taken out of the plain words: no markup can hide it there.
  let words = read.text
  for (const { index, lastIndex, url } of others.toReversed()) {
    notes.push(leftOut(url))
    words = `${words.slice(0, index)}…${words.slice(lastIndex)}`
  }
  if (hidden) notes.push("its markup was left out: a link stood in it that the facts do not hold")
  return escapeMarkup(words)
}

function cutAtWord(text: string, length: number): string {
  const head = text.slice(0, Math.max(1, length - 2))
  const end = Math.max(head.lastIndexOf("\n"), head.lastIndexOf(". ") + 1, Math.floor(head.lastIndexOf(" ")))
  const cut = head.slice(0, end > length / 2 ? end : head.length).trimEnd()
  return `${cut.toWellFormed()} …`
}

const scripts = {
  Latin: /\p{Script=Latin}/gu,
  Cyrillic: /\p{Script=Cyrillic}/gu,
  Greek: /\p{Script=Greek}/gu,
  Arabic: /\p{Script=Arabic}/gu,
  Hebrew: /\p{Script=Hebrew}/gu,
  Han: /\p{Script=Han}/gu,
  Japanese: /[\p{Script=Hiragana}\p{Script=Katakana}]/gu,
  Hangul: /\p{Script=Hangul}/gu,
  Thai: /\p{Script=Thai}/gu,
  Devanagari: /\p{Script=Devanagari}/gu,
}

/** Letters of a script that nobody used before, where a third of what was said is in it. */
function foreignScript(said: string, heard: string[]): string | undefined {
  const letters = said.match(/\p{L}/gu)?.length ?? 0
  const before = heard.join("\n").slice(0, 100_000)
  for (const [name, letter] of Object.entries(scripts)) {
    const count = said.match(letter)?.length ?? 0
    if (count > 3 && count > letters / 3 && !before.match(letter)) return name
  }
  return undefined
}
