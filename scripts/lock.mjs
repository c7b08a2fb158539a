// After a change of dependencies: takes the download addresses out of the lock file, so that any registry serves it.
import { readFileSync, writeFileSync } from "node:fs"

const file = new URL("../package-lock.json", import.meta.url)
const lock = JSON.parse(readFileSync(file, "utf8"))
for (const entry of Object.values(lock.packages)) delete entry.resolved
writeFileSync(file, `${JSON.stringify(lock, null, 2)}\n`)
