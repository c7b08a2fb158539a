import { RE2JS } from "re2js"
import { shownPhrase } from "../phrase/read.ts"

/** Characters of a pattern, and steps it may compile to. */
const longest = 1000
const mostSteps = 3000
/** Characters of a text in which a pattern is looked for. */
const looked = 5000

/** What is wrong with a regular expression, in words. */
export function patternFault(source: string): string | undefined {
  if (source.length > longest) return `the pattern has ${source.length} characters; ${longest} are read`
  try {
    const steps = RE2JS.compile(source).programSize()
    return steps > mostSteps ? `the pattern "${shownPhrase(source)}" is too large; write smaller repeats` : undefined
  } catch (error) {
    const says = (error as Error).message.replace(/^error parsing regexp: /, "")
    const back = /\(\?[=!<]/.test(source) || /\\\d/.test(source)
    const why = back ? ", since it looks around or back, which takes time without a bound" : ""
    return `the pattern "${shownPhrase(source)}" cannot be read: ${says}${why}`
  }
}

/** A regular expression, looked for anywhere in a text in time linear in it. Its named groups are slots. */
export class Pattern {
  private readonly expression: RE2JS

  constructor(source: string) {
    this.expression = RE2JS.compile(source)
  }

  get slots(): string[] {
    return Object.keys(this.expression.namedGroups())
  }

  /** What the named groups hold; undefined where it is not in the text. */
  find(text: string): { [slot: string]: string } | undefined {
    const matcher = this.expression.matcher(text.slice(0, looked))
    if (!matcher.find()) return undefined
    const slots: { [slot: string]: string } = {}
    for (const name of this.slots) {
      const found = matcher.group(name)
      if (found !== null && found !== undefined) slots[name] = found
    }
    return slots
  }
}
