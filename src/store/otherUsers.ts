import { existsSync, readFileSync, statSync } from "node:fs"
import { dirname, join } from "node:path"

/** A user of this machine, as programs may be run under it where we are root. */
export interface User {
  name: string
  uid: number
  gid: number
}

/** The users of this machine. */
export function usersHere(): User[] {
  if (!existsSync("/etc/passwd")) return []
  return readFileSync("/etc/passwd", "utf8")
    .split("\n")
    .filter((line) => line.includes(":"))
    .map((line) => {
      const [name = "", , uid, gid] = line.split(":")
      return { name, uid: Number(uid), gid: Number(gid) }
    })
}

/**
 * Where something of a home lies that another user must reach: in the home itself, or, when a folder above it is closed
 * to others, in a place of its own that is open.
 */
export function reachablePlace(home: string): string {
  for (let folder = dirname(home); ; folder = dirname(folder)) {
    if (existsSync(folder) && (statSync(folder).mode & 0o001) === 0) return ownPlace(home)
    if (folder === "/") break
  }
  return existsSync(home) && (statSync(home).mode & 0o001) === 0 ? ownPlace(home) : home
}

function ownPlace(home: string): string {
  return join("/var/lib/wobbet", home.replaceAll("/", "-").replace(/^-/, ""))
}
