import { relative, resolve } from "node:path"

/** Paths are shown as seen from where the command was given. */
export function shownPath(file: string): string {
  const path = relative(process.cwd(), resolve(file))
  return path === "" || path.startsWith("..") ? resolve(file) : path
}
