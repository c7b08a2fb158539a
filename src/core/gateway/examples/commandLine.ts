/** How a shell quotes: a Unix shell, the Windows command prompt, or PowerShell. */
type Shell = "sh" | "cmd" | "powershell"

/** A command line as a shell would split it into words. Documentation is written for any of three. */
export function wordsOfCommand(text: string): string[] {
  const line = text
    .replace(/\r\n?/g, "\n")
    .replace(/[\u2018\u2019]/g, "'")
    .replace(/[\u201c\u201d]/g, '"')
  const shell = shellOf(line)
  return split(shell === "cmd" ? withoutCarets(line) : line, shell)
}

function shellOf(line: string): Shell {
  if (/`\n|\bcurl\.exe\b.*'/s.test(line)) return "powershell"
  return /\^\n|\^"/.test(line) ? "cmd" : "sh"
}

/** A caret takes the meaning from the character after it, and joins lines at their end. */
function withoutCarets(line: string): string {
  return line.replace(/\^([\s\S])/g, (_whole, next: string) => (next === "\n" ? " " : next))
}

const escapes: { [letter: string]: string } = { n: "\n", t: "\t", r: "\r", "0": "\0" }

function split(line: string, shell: Shell): string[] {
  const escape = shell === "powershell" ? "`" : "\\"
  const words: string[] = []
  let word: string | undefined
  const add = (piece: string) => (word = (word ?? "") + piece)
  let at = 0
  while (at < line.length) {
    const sign = line[at]!
    const next = line[at + 1]
    if (sign === "\n" && word === undefined && words.length > 0) break
    if (/\s/.test(sign)) {
      if (word !== undefined) words.push(word)
      word = undefined
      if (sign === "\n") break
      at++
    } else if (sign === escape && shell !== "cmd") {
      // At the end of a line it joins the next.
      if (next === "\n") at += 2
      else {
        add(next ?? "")
        at += 2
      }
    } else if (sign === "$" && next === "'" && shell === "sh") at = ansiQuoted(line, at + 2, add)
    else if (sign === "'" && shell !== "cmd") at = singleQuoted(line, at + 1, shell, add)
    else if (sign === '"') at = doubleQuoted(line, at + 1, shell, add)
    else {
      add(sign)
      at++
    }
  }
  if (word !== undefined) words.push(word)
  return words
}

function singleQuoted(line: string, from: number, shell: Shell, add: (piece: string) => void): number {
  add("")
  for (let at = from; ;) {
    const end = line.indexOf("'", at)
    if (end === -1) throw new NotACommand("a quote (') is opened and not closed")
    add(line.slice(at, end))
    // PowerShell writes a quote as two.
    if (shell !== "powershell" || line[end + 1] !== "'") return end + 1
    add("'")
    at = end + 2
  }
}

function doubleQuoted(line: string, from: number, shell: Shell, add: (piece: string) => void): number {
  add("")
  let at = from
  while (at < line.length) {
    const sign = line[at]!
    const next = line[at + 1]
    if (sign === '"') {
      if (shell === "sh" || next !== '"') return at + 1
      add('"')
      at += 2
    } else if (sign === "\\" && (next === '"' || next === "\\" || (shell === "sh" && (next === "$" || next === "`")))) {
      add(next)
      at += 2
    } else if (shell === "sh" && sign === "\\" && next === "\n") at += 2
    else if (shell === "powershell" && sign === "`" && next !== undefined) {
      add(escapes[next] ?? next)
      at += 2
    } else {
      add(sign)
      at++
    }
  }
  throw new NotACommand('a quote (") is opened and not closed')
}

/** The quoting with escapes, `$'…'`, in which browsers copy bodies that hold quotes. */
function ansiQuoted(line: string, from: number, add: (piece: string) => void): number {
  add("")
  let at = from
  while (at < line.length) {
    const sign = line[at]!
    if (sign === "'") return at + 1
    if (sign !== "\\") {
      add(sign)
      at++
      continue
    }
    const code = /^\\(?:u([0-9a-fA-F]{1,4})|x([0-9a-fA-F]{1,2}))/.exec(line.slice(at, at + 6))
    if (code) {
      add(String.fromCharCode(parseInt(code[1] ?? code[2]!, 16)))
      at += code[0].length
    } else {
      const next = line[at + 1] ?? ""
      add(escapes[next] ?? next)
      at += 2
    }
  }
  throw new NotACommand("a quote ($') is opened and not closed")
}

/** A text that cannot be read as a command, and why. */
export class NotACommand extends Error {}
