import { kept } from "./browser.ts"

export type Theme = "light" | "dark" | "system"

const key = "wobbet-theme"

export function chosenTheme(): Theme {
  const chosen = kept.get(key)
  return chosen === "light" || chosen === "dark" ? chosen : "system"
}

export function chooseTheme(theme: Theme): void {
  kept.set(key, theme === "system" ? undefined : theme)
  apply()
}

/** The class stands on `html`, so that menus, which are drawn outside the page's root, have it too. */
function apply(): void {
  const theme = chosenTheme()
  const dark = theme === "dark" || (theme === "system" && matchMedia("(prefers-color-scheme: dark)").matches)
  document.documentElement.classList.toggle("dark", dark)
}

export function startTheme(): void {
  apply()
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", apply)
}
