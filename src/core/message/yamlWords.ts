/** A fault in YAML, in words that say what is there and what to write instead. */
export interface YamlWords {
  says: string
  remedy: string
}

const quote = "Put quotation marks around the text."
const indent = "Indent with spaces, and let what belongs together begin in the same column."

/** By the reader's own codes; what it finds once is all that is known of where a thing went wrong. */
const words: { [code: string]: YamlWords } = {
  TAB_AS_INDENT: { says: "the line is indented with a tab", remedy: "Write spaces instead: YAML takes no tabs there." },
  BAD_INDENT: { says: "the line begins in another column than what it belongs to", remedy: indent },
  BLOCK_AS_IMPLICIT_KEY: {
    says: "a second colon stands in the line, as if it held a mapping within a mapping",
    remedy: "Put quotation marks around a text with a colon in it, or begin a new, indented line after the first.",
  },
  BLOCK_IN_FLOW: {
    says: "an indented list or mapping stands within brackets or braces",
    remedy: "Write it in one line with commas, or do without the brackets.",
  },
  DUPLICATE_KEY: { says: "the name stands there twice", remedy: "Keep one of the two, or put both under one name." },
  MISSING_CHAR: { says: "something that was opened is not closed, or a colon is missing", remedy: quote },
  MULTILINE_IMPLICIT_KEY: {
    says: "the line has no colon after its name",
    remedy: 'Write "name: value", or indent the line if it continues a text.',
  },
  KEY_OVER_1024_CHARS: { says: "a name is longer than 1024 characters", remedy: "Is a colon missing after it?" },
  BAD_SCALAR_START: {
    says: "the text begins with a character that YAML keeps for itself",
    remedy: quote,
  },
  BAD_DQ_ESCAPE: {
    says: "a backslash in quotation marks is followed by something that is not an escape",
    remedy: "Write \\\\ for a backslash, or use single quotation marks, in which it stands for itself.",
  },
  MULTIPLE_DOCS: { says: "a second document begins here", remedy: "Take out the line ---, or move it to a file." },
  BAD_ALIAS: { says: "a text begins with * or names something that is not there", remedy: quote },
  TAG_RESOLVE_FAILED: { says: "a text begins with !, which marks a type", remedy: quote },
  UNEXPECTED_TOKEN: {
    says: "something stands here that belongs to nothing",
    remedy: `Is a bracket closed too early, or a list mixed with a mapping? ${indent}`,
  },
}

/** @param message the reader's own, which tells what is not closed */
export function wordsOf(code: string, message: string): YamlWords {
  const closing = /must be sufficiently indented and end with a ([\]}])/.exec(message)?.[1] ?? missing(message)
  if (closing !== undefined)
    return {
      says: `"${closing}" is missing: what was opened before is not closed`,
      remedy: `Write ${closing} at its end.`,
    }
  return words[code] ?? { says: "it is not YAML here", remedy: indent }
}

function missing(message: string): string | undefined {
  return /^Missing closing (["'])/.exec(message)?.[1]
}
