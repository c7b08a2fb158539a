import { escapeMarkup } from "../message/markup.ts"

const messageFields = [
  ...["event", "providerId", "place", "from", "text", "command", "choice", "media", "location", "contact", "contacts"],
  ...["form", "fields", "referral", "reaction", "replyTo", "quote", "forwarded", "people", "sentAt"],
]
const known: { [root: string]: readonly string[] | "anything" } = {
  contact: ["address", "name", "handle", "language", "bot"],
  message: messageFields,
  channel: ["key", "kind"],
  // What a bot remembers is its author's own.
  state: "anything",
}

/**
 * What is wrong with the places of a text that are to be filled in, in words: a name nobody knows would be filled with
 * nothing, and a person would read "Hello !".
 *
 * @param slots that the route's phrases and commands fill
 */
export function faultsOfPlaces(text: string, slots: readonly string[]): { says: string; remedy: string }[] {
  return [...text.matchAll(/\{\{([^{}]*)(\}\}|\}|$)?/g)].flatMap(([whole, inside = "", end]) => {
    const path = inside.trim()
    const [root = "", field] = path.split(".")
    if (end !== "}}" || !/^[\w.]+$/.test(path))
      return { says: `"${whole.slice(0, 60)}" is not a place to fill in`, remedy: "Write it as {{contact.name}}." }
    const fields = root === "slots" ? slots : Object.hasOwn(known, root) ? known[root]! : undefined
    if (fields === undefined)
      return {
        says: `nothing is known by the name in {{${path}}}`,
        remedy: "There are: contact, message, slots, state and channel, such as {{contact.name}}.",
      }
    if (field !== undefined && (fields === "anything" || fields.includes(field))) return []
    const remedy =
      fields === "anything"
        ? `Name a field of it: {{${root}.topic}}.`
        : fields.length === 0
          ? "No phrase of this route fills a slot."
          : `Write one of: ${fields.map((name) => `{{${root}.${name}}}`).join(", ")}.`
    return { says: `{{${path}}} names nothing of ${root}`, remedy }
  })
}

/**
 * Fills `{{contact.name}}` and the like into a text of `bot.yaml`. What is filled in is made safe first, so that a
 * name with a star in it does not turn the rest bold; what is not there becomes nothing.
 */
export function fillText(text: string, values: { [name: string]: unknown }): string {
  return text.replace(/\{\{\s*([\w.]+)\s*\}\}/g, (_whole, path: string) => {
    let value: unknown = values
    for (const key of path.split(".")) {
      value =
        typeof value === "object" && value !== null && Object.hasOwn(value, key)
          ? (value as { [key: string]: unknown })[key]
          : undefined
    }
    if (value === undefined || value === null) return ""
    return escapeMarkup(typeof value === "object" ? JSON.stringify(value) : String(value as string | number))
  })
}
