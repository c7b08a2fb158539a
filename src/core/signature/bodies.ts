import { withoutEnd } from "../message/trimmed.ts"
/** A body that may have been signed before something in between rewrote it, and in words how it differs. */
export interface BodyNeighbour {
  body: Uint8Array
  differs: string
}

/** Bodies longer than this are not rewritten, in bytes: reading them as JSON would take too long. */
const longestRead = 32 * 1024

/** What the body may have been before proxies, gateways and frameworks changed it on the way. Nearest first. */
export function* bodyNeighbours(body: Uint8Array): Generator<BodyNeighbour> {
  if (body.length === 0) return
  const text = Buffer.from(body.buffer, body.byteOffset, body.byteLength).toString("utf8")
  const tried = new Set([text])
  const neighbour = function* (other: string, differs: string): Generator<BodyNeighbour> {
    if (tried.has(other)) return
    tried.add(other)
    yield { body: Buffer.from(other, "utf8"), differs }
  }
  if (text.includes("\r\n"))
    yield* neighbour(text.replaceAll("\r\n", "\n"), "with the line ends of Unix (LF instead of CRLF)")
  if (text.includes("\n"))
    yield* neighbour(text.replace(/\r?\n/g, "\r\n"), "with the line ends of Windows (CRLF instead of LF)")
  if (body.length <= longestRead) {
    const ascii = escaped(text)
    yield* neighbour(ascii, "with its characters outside ASCII escaped (\\uXXXX)")
    yield* neighbour(slashed(ascii), "with slashes and characters outside ASCII escaped (\\/, \\uXXXX)")
    if (text.includes("\\/")) yield* neighbour(text.replaceAll("\\/", "/"), "with its slashes not escaped")
    if (text.includes("\\u")) {
      const plain = unescaped(text)
      yield* neighbour(plain, "with its escaped characters written out")
      yield* neighbour(plain.replaceAll("\\/", "/"), "with its escaped characters and slashes written out")
    }
  }
  yield* neighbour(withoutEnd(text.replace(/^[ \t\r\n]+/, ""), " \t\r\n"), "without the spaces or line ends around it")
  yield* neighbour(`${text}\n`, "with a line end behind it")
  yield* neighbour(`${text}\r\n`, "with a line end (CRLF) behind it")
  yield* neighbour(text.startsWith("\uFEFF") ? text.slice(1) : `\uFEFF${text}`, "with or without a byte order mark")
  if (body.length > longestRead) return
  const json = read(text)
  if (json !== undefined) {
    const compact = JSON.stringify(json)
    yield* neighbour(compact, "as compact JSON")
    const ascii = escaped(compact)
    yield* neighbour(ascii, "as compact JSON with characters outside ASCII escaped")
    yield* neighbour(slashed(ascii), "as compact JSON with slashes and characters outside ASCII escaped")
    const spaced = withBlanks(compact)
    yield* neighbour(spaced, "as JSON with a space after every colon and comma")
    yield* neighbour(escaped(spaced), "as JSON with spaces, and characters outside ASCII escaped")
    yield* neighbour(JSON.stringify(json, null, 2), "as JSON indented by two")
    yield* neighbour(JSON.stringify(json, null, 4), "as JSON indented by four")
  } else if (/^[^\s=&]+=/.test(text)) {
    yield* neighbour(text.replaceAll("+", "%20"), "with spaces written as %20")
    yield* neighbour(text.replaceAll("%20", "+"), "with spaces written as +")
    yield* neighbour(text.replace(/%0D%0A/gi, "%0A"), "with the line ends of Unix in its fields (LF instead of CRLF)")
    yield* neighbour(
      text.replace(/(?<!%0D)%0A/gi, "%0D%0A"),
      "with the line ends of Windows in its fields (CRLF instead of LF)",
    )
  }
}

function read(text: string): unknown {
  if (!/^\s*[[{]/.test(text)) return undefined
  try {
    return JSON.parse(text) as unknown
  } catch {
    return undefined
  }
}

function escaped(text: string): string {
  return text.replace(/[\u0080-\uffff]/g, (character) => `\\u${character.charCodeAt(0).toString(16).padStart(4, "0")}`)
}

function slashed(text: string): string {
  return text.replace(/\\?\//g, "\\/")
}

function unescaped(text: string): string {
  return text.replace(/\\u([0-9a-fA-F]{4})/g, (whole, code: string) => {
    const unit = Number.parseInt(code, 16)
    return unit < 0x80 ? whole : String.fromCharCode(unit)
  })
}

/** As some languages write JSON by default. Blanks go in outside of strings only. */
function withBlanks(compact: string): string {
  return compact.replace(/"(?:[^"\\]|\\.)*"|[:,]/g, (piece) => (piece === ":" || piece === "," ? `${piece} ` : piece))
}
