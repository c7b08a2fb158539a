/** What not every browser gives everywhere: each of these works in whatever context the page was opened. */

/** Keeps a text in this browser; where it keeps nothing, only for as long as the page is open. */
export const kept = {
  get(name: string): string | undefined {
    try {
      return localStorage.getItem(name) ?? undefined
    } catch {
      return onPage.get(name)
    }
  },
  set(name: string, text: string | undefined): void {
    try {
      if (text === undefined) localStorage.removeItem(name)
      else localStorage.setItem(name, text)
    } catch {
      if (text === undefined) onPage.delete(name)
      else onPage.set(name, text)
    }
  },
  /** Forgets everything whose name begins so. */
  forget(beginning: string): void {
    try {
      for (const name of Object.keys(localStorage)) if (name.startsWith(beginning)) localStorage.removeItem(name)
    } catch {
      // Nothing was kept then.
    }
    for (const name of onPage.keys()) if (name.startsWith(beginning)) onPage.delete(name)
  },
}
const onPage = new Map<string, string>()

/** A key that nobody else makes. `crypto.randomUUID` is there only where the page came over https or from localhost. */
export function newKey(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))].map((byte) => byte.toString(16).padStart(2, "0")).join("")
}

/** Copies a text; says whether that was possible. The clipboard, too, is only there over https or from localhost. */
export async function copy(text: string): Promise<boolean> {
  try {
    if (navigator.clipboard) {
      await navigator.clipboard.writeText(text)
      return true
    }
  } catch {
    // Not allowed: the older way may be.
  }
  const field = document.createElement("textarea")
  field.value = text
  field.style.position = "fixed"
  field.style.opacity = "0"
  const focused = document.activeElement
  document.body.append(field)
  field.select()
  try {
    // The only way there is outside a secure context.
    return document.execCommand("copy")
  } catch {
    return false
  } finally {
    field.remove()
    if (focused instanceof HTMLElement) focused.focus()
  }
}
