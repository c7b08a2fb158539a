import { isObject, readJson } from "../../message/json.ts"
import { readXml } from "../xml.ts"
import { NotACommand, wordsOfCommand } from "./commandLine.ts"

/** A call to a gateway as its documentation shows it: a request, and what it was answered where that is shown, too. */
export interface Example {
  method: string
  /** The whole address, query included. */
  url: string
  /** Names in lower case. */
  headers: { [name: string]: string }
  body?: ExampleBody
  /** The user and password that were given apart. */
  basic?: [string, string]
  answer?: string
  /** What of it was passed over, in words. */
  notes: string[]
  /** What is not in it, and should be. */
  lacks: string[]
}

export type ExampleBody =
  | { form: "json"; content: unknown }
  | { form: "xml"; content: unknown }
  | { form: "form"; content: [string, string][] }
  /** Fields of multipart data; files stand as their names. */
  | { form: "multipart"; content: [string, string][] }
  | { form: "text"; content: string }

/** An example that cannot be read: what is wrong with it, and what would do. */
export class NotAnExample extends Error {
  constructor(
    message: string,
    readonly remedy: string,
  ) {
    super(message)
  }
}

/** Characters of an address. */
const longestAddress = 4000

/** Characters of an example. */
export const longestExample = 500_000

const sorts =
  "Give the request as a curl command line, as HTTP (POST /path HTTP/1.1, headers, an empty line, the body), or as an entry of a HAR file."

/**
 * Reads a request as people copy it. Throws a NotAnExample.
 *
 * Sources: curl's manual page for its options, RFC 9112 for HTTP, the HAR 1.2 format for entries.
 */
export function readExample(text: string): Example {
  if (text.length > longestExample)
    throw new NotAnExample(`The example has ${text.length} characters; ${longestExample} are read.`, sorts)
  const given = text.replace(/^\uFEFF/, "").trim()
  if (given === "") throw new NotAnExample("The example is empty.", sorts)
  try {
    if (given.startsWith("{")) return fromHar(given)
    const command = /(?:^|[\n$>#]\s{0,20})(curl(?:\.exe)?\s[\s\S]*)$/.exec(given)?.[1]
    if (command !== undefined) return fromCurl(command)
    if (/^(GET|POST|PUT|PATCH|DELETE)\s+\S+/.test(given)) return fromHttp(given)
  } catch (error) {
    if (error instanceof NotACommand) throw new NotAnExample(`The command cannot be read: ${error.message}.`, sorts)
    throw error
  }
  throw new NotAnExample(`"${given.slice(0, 60)}" is no request.`, sorts)
}

/** Options of curl that are followed by a value; those not named here are taken to stand alone. */
const valued = new Set(
  "-o --output -m --max-time --connect-timeout -x --proxy --cacert -E --cert --key --retry --resolve -c --cookie-jar -w --write-out -e --referer --max-redirs --ciphers --tls-max --interface --limit-rate".split(
    " ",
  ),
)

function fromCurl(command: string): Example {
  const [, ...words] = wordsOfCommand(command)
  const example: Example = { method: "", url: "", headers: {}, notes: [], lacks: [] }
  const data: string[] = []
  const parts: [string, string][] = []
  let inQuery = false
  let multipart = false
  const queue = words.flatMap(separated)
  for (let at = 0; at < queue.length; at++) {
    const word = queue[at]!
    const value = () => {
      const next = queue[++at]
      if (next === undefined) throw new NotACommand(`${word} is followed by nothing`)
      return next
    }
    switch (word) {
      case "-X":
      case "--request":
        example.method = value().toUpperCase()
        break
      case "-H":
      case "--header":
        addHeader(example, value())
        break
      case "-u":
      case "--user": {
        const [user = "", ...rest] = value().split(":")
        example.basic = [user, rest.join(":")]
        break
      }
      case "--oauth2-bearer":
        example.headers.authorization = `Bearer ${value()}`
        break
      case "-A":
      case "--user-agent":
      case "-b":
      case "--cookie":
        value()
        break
      case "-d":
      case "--data":
      case "--data-ascii":
      case "--data-binary":
      case "--data-raw":
        data.push(ofFile(value(), word, example))
        break
      case "--json":
        data.push(ofFile(value(), word, example))
        example.headers["content-type"] ??= "application/json"
        break
      case "--data-urlencode": {
        const [name, ...rest] = value().split("=")
        const content = rest.length > 0 ? `${name}=${encodeURIComponent(rest.join("="))}` : encodeURIComponent(name!)
        data.push(content)
        break
      }
      case "-F":
      case "--form":
      case "--form-string": {
        multipart = true
        const [name = "", ...rest] = value().split("=")
        parts.push([name, rest.join("=").replace(/;type=[\w/+.-]+$/, "")])
        break
      }
      case "-G":
      case "--get":
        inQuery = true
        break
      case "-I":
      case "--head":
        example.method = "HEAD"
        break
      case "--url":
        example.url = value()
        break
      default:
        if (valued.has(word)) value()
        else if (!word.startsWith("-") && example.url === "") example.url = word
        else if (!word.startsWith("-")) example.notes.push(`"${word.slice(0, 40)}" was not understood`)
    }
  }
  if (example.url === "") throw new NotACommand("it names no address")
  const content = data.join("&")
  if (inQuery && content !== "") example.url += `${example.url.includes("?") ? "&" : "?"}${content}`
  else if (multipart) example.body = { form: "multipart", content: parts }
  else if (data.length > 0) example.body = bodyOf(content, example.headers["content-type"], example.notes)
  example.method ||= example.body ? "POST" : "GET"
  return whole(example)
}

/** `-XPOST` and `--request=POST` are two words each. */
function separated(word: string): string[] {
  const short = /^(-[XHduFoAbmxe])(.+)$/s.exec(word)
  if (short) return [short[1]!, short[2]!]
  const long = /^(--[a-z][a-z-]*)=(.*)$/s.exec(word)
  return long ? [long[1]!, long[2]!] : [word]
}

function ofFile(value: string, option: string, example: Example): string {
  if (!value.startsWith("@") || option === "--data-raw") return value
  example.lacks.push(
    `the body lies in the file ${value.slice(1, 80)}, which is not here: put its content into the example`,
  )
  return ""
}

function addHeader(example: Example, line: string): void {
  const at = line.indexOf(":")
  if (at <= 0) {
    example.notes.push(`the header "${line.slice(0, 40)}" has no value`)
    return
  }
  example.headers[line.slice(0, at).trim().toLowerCase()] = line.slice(at + 1).trim()
}

function bodyOf(content: string, type: string | undefined, notes: string[]): ExampleBody {
  const bare = content.trim()
  if (/json/i.test(type ?? "") || (!/form/i.test(type ?? "") && /^[[{]/.test(bare))) {
    const content = jsonIn(bare, notes)
    return content === undefined ? { form: "text", content: bare } : { form: "json", content }
  }
  if (/xml/i.test(type ?? "") || bare.startsWith("<")) {
    try {
      return { form: "xml", content: readXml(bare) }
    } catch (error) {
      throw new NotAnExample(
        `The body is not XML: ${(error as Error).message}.`,
        "Copy it whole, without dots for what is left out.",
      )
    }
  }
  if (/text\/plain/i.test(type ?? "")) return { form: "text", content: bare }
  return { form: "form", content: [...new URLSearchParams(bare)] }
}

/** JSON as documentation writes it: with comments, commas too many, and placeholders without quotes. */
function jsonIn(text: string, notes: string[]): unknown {
  if (text === "") return undefined
  try {
    return readJson(Buffer.from(text))
  } catch {
    const repaired = text
      .replace(
        /("(?:[^"\\]|\\.)*")|\/\/[^\n]*|\/\*[\s\S]{0,2000}?\*\//g,
        (_whole, string: string | undefined) => string ?? "",
      )
      .replace(/("(?:[^"\\]|\\.)*")|,(?=\s*[}\]])/g, (_whole, string: string | undefined) => string ?? "")
      .replace(/("(?:[^"\\]|\\.)*")|(:\s*)(<[\w -]+>|\{\{\w+\}\}|\$\{?\w+\}?)/g, (_whole, string, colon, name) =>
        typeof string === "string" ? string : `${String(colon)}${JSON.stringify(name)}`,
      )
    try {
      const content = readJson(Buffer.from(repaired))
      notes.push("the body is not quite JSON: comments, commas or placeholders in it were passed over")
      return content
    } catch (error) {
      throw new NotAnExample(
        `The body is not JSON: ${(error as Error).message.slice(0, 120)}.`,
        "Copy it whole, without dots for what is left out.",
      )
    }
  }
}

function fromHttp(text: string): Example {
  const lines = text.replace(/\r\n?/g, "\n").split("\n")
  const [method = "", target = ""] = lines[0]!.split(/\s+/)
  const end = lines.findIndex((line, at) => at > 0 && line.trim() === "")
  const head = lines.slice(1, end === -1 ? undefined : end)
  const rest = end === -1 ? "" : lines.slice(end + 1).join("\n")
  // What it was answered may stand below it.
  const [body = "", answer] = rest.split(/^HTTP\/[\d.]+ \d.*$/m)
  const example: Example = { method, url: target, headers: {}, notes: [], lacks: [] }
  for (const line of head) addHeader(example, line)
  if (!/^https?:/i.test(target)) {
    const { host } = example.headers
    if (host === undefined)
      throw new NotAnExample(
        "The request names no host.",
        "Write a line such as Host: api.gateway.example below the first.",
      )
    example.url = `https://${host}${target.startsWith("/") ? "" : "/"}${target}`
  }
  if (body.trim() !== "") example.body = bodyOf(body, example.headers["content-type"], example.notes)
  const shown = answer
    ?.split(/\n\s*\n/)
    .slice(1)
    .join("\n\n")
    .trim()
  return whole({ ...example, ...(shown ? { answer: shown } : {}) })
}

function fromHar(text: string): Example {
  let har: unknown
  try {
    har = readJson(Buffer.from(text))
  } catch (error) {
    throw new NotAnExample(`It is not JSON: ${(error as Error).message.slice(0, 120)}.`, sorts)
  }
  const log = isObject(har) && isObject(har.log) ? har.log : undefined
  const entries = Array.isArray(log?.entries) ? (log.entries as unknown[]) : [har]
  if (entries.length !== 1)
    throw new NotAnExample(`The HAR file has ${entries.length} entries.`, "Choose one: give that entry alone.")
  const entry = entries[0]
  const request = isObject(entry) ? (isObject(entry.request) ? entry.request : entry) : undefined
  const response = isObject(entry) && isObject(entry.response) ? entry.response : undefined
  if (typeof request?.url !== "string" || typeof request.method !== "string")
    throw new NotAnExample("It holds no request: a method and a url are missing.", sorts)
  const example: Example = { method: request.method.toUpperCase(), url: request.url, headers: {}, notes: [], lacks: [] }
  for (const header of Array.isArray(request.headers) ? (request.headers as unknown[]) : [])
    if (isObject(header) && typeof header.name === "string" && typeof header.value === "string")
      if (!header.name.startsWith(":")) example.headers[header.name.toLowerCase()] = header.value
  const posted = isObject(request.postData) ? request.postData : undefined
  if (posted) {
    const type = typeof posted.mimeType === "string" ? posted.mimeType : example.headers["content-type"]
    const params = Array.isArray(posted.params) ? (posted.params as unknown[]) : []
    const pairs = params.flatMap((one): [string, string][] =>
      isObject(one) && typeof one.name === "string" ? [[one.name, String(one.fileName ?? one.value ?? "")]] : [],
    )
    if (/multipart/.test(type ?? "")) example.body = { form: "multipart", content: pairs }
    else if (typeof posted.text === "string" && posted.text !== "")
      example.body = bodyOf(posted.text, type, example.notes)
    else if (pairs.length > 0) example.body = { form: "form", content: pairs }
  }
  const content = isObject(response?.content) ? response.content.text : undefined
  return whole({ ...example, ...(typeof content === "string" ? { answer: content.slice(0, 20_000) } : {}) })
}

function whole(example: Example): Example {
  const url = /^[a-z]+:\/\//i.test(example.url) ? example.url : `https://${example.url}`
  if (!/^https?:\/\/[^/\s?#]+/i.test(url))
    throw new NotAnExample(
      `"${example.url.slice(0, 80)}" is no address of the web.`,
      "It begins with https:// and a host.",
    )
  if (url.length > longestAddress)
    throw new NotAnExample(`Its address has ${url.length} characters; ${longestAddress} are read.`, sorts)
  if (!["GET", "POST", "PUT", "PATCH", "DELETE"].includes(example.method))
    throw new NotAnExample(`A ${example.method} request sends nothing.`, "Give the example that sends a message.")
  return { ...example, url: url.trim() }
}
