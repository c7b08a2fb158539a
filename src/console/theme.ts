export type Theme = "light" | "dark" | "system"

const key = "wobbet-theme"

export function chosenTheme(): Theme {
  const kept = localStorage.getItem(key)
  return kept === "light" || kept === "dark" ? kept : "system"
}

export function chooseTheme(theme: Theme): void {
  if (theme === "system") localStorage.removeItem(key)
  else localStorage.setItem(key, theme)
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
