import { escapeMarkup } from "../message/markup.ts"

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
