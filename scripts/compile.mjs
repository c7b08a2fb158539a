// Keeps beside a built program what V8 makes of it, so that it need not be compiled at each start: see
// src/cli/loading.ts. `node scripts/compile.mjs <folder of the build>`, with the flags it will be run with.
import { readFileSync, renameSync, writeFileSync } from "node:fs"
import Module, { createRequire } from "node:module"
import { dirname, join } from "node:path"
import { cachedDataVersionTag } from "node:v8"
import { Script } from "node:vm"

const file = join(process.argv[2], "program.cjs")
const script = new Script(Module.wrap(readFileSync(file, "latin1")), { filename: file })
const module = { exports: {} }
script.runInThisContext().call(module.exports, module.exports, createRequire(file), module, file, dirname(file))
// Functions that have run are in it, too.
await module.exports.loadAll()
const compiled = join(dirname(file), `program-${cachedDataVersionTag()}.compiled`)
writeFileSync(`${compiled}.new`, script.createCachedData())
renameSync(`${compiled}.new`, compiled)
process.exit(0)
