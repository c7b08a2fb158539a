import type { Message } from "./message.ts"

/** `/name arguments` at the beginning of a text, on kinds that have no commands of their own. */
export function readCommand(text: string): Message["command"] {
  const match = /^\/([A-Za-z0-9_-]{1,32})(?=\s|$)([\s\S]*)$/.exec(text)
  if (!match) return undefined
  const args = match[2]!.trim()
  return { name: match[1]!.toLowerCase(), ...(args ? { args } : {}) }
}

/** A text as a message's content: a command where it is one. */
export function saidText(text: string): Pick<Message, "event" | "text" | "command"> {
  if (!text.startsWith("/")) return { event: "text", text }
  const command = readCommand(text)
  return { event: command ? "command" : "text", text, ...(command ? { command } : {}) }
}

/** Seconds since 1970, as a number or as text, as ISO 8601; nothing when it is no time. */
export function isoSeconds(value: unknown): string | undefined {
  const seconds = typeof value === "number" || (typeof value === "string" && value.trim() !== "") ? Number(value) : NaN
  return isoMilliseconds(seconds * 1000)
}

export function isoMilliseconds(value: unknown): string | undefined {
  const time = new Date(typeof value === "number" ? value : Number.NaN)
  return Number.isNaN(time.getTime()) ? undefined : time.toISOString()
}
