import { IntlMessageFormat } from "intl-messageformat"

/** A place of a text that is filled in: a path, and how it is formatted, in ICU's MessageFormat. */
export interface Place {
  path: string
  /** `{a, date, long}`: the place as a message of its own, its paths as letters. */
  format?: string
  /** What the letters of `format` stand for. */
  named: Named[]
  /** As it is written. */
  source: string
}

/** A path, and the type under which a format takes it, such as `date`. */
export interface Named {
  path: string
  type?: string
}

/** What looks like a place and is none, and why. */
export interface Wrong {
  wrong: string
  says: string
}

/** Nested formats, such as a plural in a selection. */
const deepest = 5

/** Reads the words and places of a text, in order: `{{contact.name}}`, `{{slots.day, date, long}}`. */
export function readTemplate(text: string): (string | Place | Wrong)[] {
  const pieces: (string | Place | Wrong)[] = []
  let from = 0
  for (let at = text.indexOf("{{"); at >= 0; at = text.indexOf("{{", from)) {
    const end = endOf(text, at)
    if (at > from) pieces.push(text.slice(from, at))
    if (end === undefined) {
      const wrong = text.slice(at)
      return [...pieces, { wrong, says: `"${wrong.slice(0, 60)}" is not closed by }}` }]
    }
    const source = text.slice(at, end)
    const place = readPlace(source)
    pieces.push(typeof place === "string" ? { wrong: source, says: place } : place)
    from = end
  }
  if (from < text.length) pieces.push(text.slice(from))
  return pieces
}

/** Where the place that begins with `{{` ends: behind the braces that close it. */
function endOf(text: string, from: number): number | undefined {
  let open = 0
  for (let at = from; at < text.length; at++) {
    if (text[at] === "{") open++
    if (text[at] === "}" && --open === 0) return text[at - 1] === "}" || at === from + 1 ? at + 1 : undefined
  }
  return undefined
}

/** A place; or what is wrong with it. */
function readPlace(source: string): Place | string {
  const inside = source.slice(2, -2)
  const comma = inside.indexOf(",")
  const path = (comma < 0 ? inside : inside.slice(0, comma)).trim()
  if (!/^\w+(\.[\w-]+)*$/.test(path)) return `"${source.slice(0, 60)}" is not a place to fill in`
  if (comma < 0) return { path, named: [{ path }], source }
  const named = [namedBy(path, inside.slice(comma))]
  const rest = lettered(inside.slice(comma), named, 0)
  if (rest === undefined) return `"${source.slice(0, 60)}" is nested too deeply`
  const format = `{a${rest}}`
  return formatFault(format, source) ?? { path, format, named, source }
}

function namedBy(path: string, rest: string): Named {
  const [, type] = /^\s*,\s*([a-z]+)/.exec(rest) ?? []
  return type === undefined ? { path } : { path, type }
}

/** Paths within a format as letters, since ICU's names have no dots. */
function lettered(format: string, named: Named[], depth: number): string | undefined {
  if (depth > deepest || named.length > 26) return undefined
  let whole = ""
  let from = 0
  for (let at = format.indexOf("{{"); at >= 0; at = format.indexOf("{{", from)) {
    const end = endOf(format, at)
    const [, path, rest] = /^\{\{\s*([\w.-]+)\s*(,[^]*)?\}\}$/.exec(format.slice(at, end ?? at)) ?? []
    if (end === undefined || path === undefined) return undefined
    named.push(namedBy(path, rest ?? ""))
    const letter = letterOf(named.length - 1)
    const within = rest === undefined ? "" : lettered(rest, named, depth + 1)
    if (within === undefined) return undefined
    whole += `${format.slice(from, at)}{${letter}${within}}`
    from = end
  }
  return whole + format.slice(from)
}

export function letterOf(at: number): string {
  return String.fromCharCode(97 + at)
}

const styles: { [type: string]: readonly string[] } = {
  date: ["short", "medium", "long", "full"],
  time: ["short", "medium", "long", "full"],
  number: ["integer", "percent"],
}

function formatFault(format: string, source: string): string | undefined {
  const shown = source.length > 60 ? `${source.slice(0, 60)}…` : source
  const [, type = "", named] = /^\{a\s*,\s*([a-z]+)\s*(?:,([^{}]*))?\}/.exec(format) ?? []
  const style = named?.trim()
  const known = styles[type]
  if (known && style !== undefined && style !== "" && !style.startsWith("::") && !known.includes(style))
    return `"${shown}" names the style "${style}"; there are ${known.join(", ")}, and skeletons such as ::yMMMMd`
  try {
    new IntlMessageFormat(format, "en", undefined, { ignoreTag: true })
    return undefined
  } catch (error) {
    return `"${shown}" is not a format: ${inWords((error as Error).message)}`
  }
}

/** ICU's errors come as names. */
function inWords(name: string): string {
  const words: { [name: string]: string } = {
    MISSING_OTHER_CLAUSE: "it needs an other {…} at its end",
    INVALID_ARGUMENT_TYPE: "it is none of date, time, number, plural, selectordinal and select",
    EXPECT_ARGUMENT_TYPE: "its type is missing, such as date",
    EXPECT_ARGUMENT_CLOSING_BRACE: "a brace is not closed",
    EXPECT_PLURAL_ARGUMENT_SELECTOR: "a plural has one {…} and other {…}",
    EXPECT_SELECT_ARGUMENT_SELECTOR: "a selection has words with their texts, and other {…}",
    EXPECT_SELECT_ARGUMENT_OPTIONS: "the cases are missing, such as one {…} other {…}",
    EXPECT_PLURAL_ARGUMENT_SELECTOR_FRAGMENT: "a case has its text in braces: one {…}",
    EXPECT_SELECT_ARGUMENT_SELECTOR_FRAGMENT: "a case has its text in braces: one {…}",
    DUPLICATE_PLURAL_ARGUMENT_SELECTOR: "a case stands there twice",
    DUPLICATE_SELECT_ARGUMENT_SELECTOR: "a case stands there twice",
  }
  return words[name.split("\n")[0]!.trim()] ?? name.toLowerCase().replaceAll("_", " ")
}
