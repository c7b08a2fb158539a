import { readFileSync } from "node:fs"
import { harRequests } from "../client/har.ts"
import type { RequestExample, RequestSort } from "../client/types.ts"
import { CommandFault } from "./context.ts"
import { inLine } from "./output.ts"

/** What an example may be said to be for, in front of its file. */
export const shortSorts: { [name: string]: RequestSort } = {
  send: "send",
  register: "register",
  unregister: "unregister",
  record: "address on record",
  me: "who am I",
  fetch: "fetch from the queue",
  remove: "remove from the queue",
  attachment: "attachment",
  history: "history",
  status: "one message",
}

export const exampleHelp = `a file with an example request; what it is for may stand in front: ${Object.keys(shortSorts).join("=, ")}=`

/** A file, and what stands in front of it: what its example is for, such as `send=answer.json`. */
export function sortedFile(given: string): { as?: RequestSort; file: string } {
  const [, sort = "", file = ""] = /^([a-z]+)=(.+)$/.exec(given) ?? []
  return Object.hasOwn(shortSorts, sort) ? { as: shortSorts[sort]!, file } : { file: given }
}

/** Examples of requests from files; `-` is what comes in, `send=file` says what it is for. */
export function examplesFrom(given: string[], entry?: number): RequestExample[] {
  return given.map((one) => {
    const { as, file } = sortedFile(one)
    return { text: oneRequest(textOf(file), one, entry), ...(as === undefined ? {} : { as }) }
  })
}

export function textOf(file: string): string {
  try {
    return readFileSync(file === "-" ? 0 : file, "utf8")
  } catch {
    throw new CommandFault(`The file ${file} cannot be read.`, "Is the path right?")
  }
}

/** Of a HAR file the one request that is meant. */
function oneRequest(text: string, file: string, entry: number | undefined): string {
  const requests = harRequests(text)
  if (!requests) return text
  const [only] = requests
  if (!only) throw new CommandFault(`${file} holds no request.`, "Copy one from the browser's network page.")
  if (requests.length === 1 && entry === undefined) return only.entry
  const chosen = requests.find(({ n }) => n === entry)
  if (chosen) return chosen.entry
  const likely = [...requests].sort((a, b) => Number(a.method === "GET") - Number(b.method === "GET")).slice(0, 12)
  const list = likely.map(({ n, method, url }) => `  ${n}  ${method} ${inLine(url, 80)}`).join("\n")
  throw new CommandFault(
    `${file} holds ${requests.length} requests${entry === undefined ? "" : `, and none is number ${entry}`}.`,
    `Choose one with --entry:\n${list}`,
  )
}
