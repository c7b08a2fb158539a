// Builds a service with other sources than those on disk: `node buildWith.mjs <folder>`, and on standard input JSON of
// the files, by their paths from the top.
import { existsSync } from "node:fs"
import { dirname, join, relative, resolve } from "node:path"
import { fileURLToPath } from "node:url"
import { text } from "node:stream/consumers"
import { bundle, entryPoints } from "../../scripts/build.mjs"

const root = fileURLToPath(new URL("../..", import.meta.url))
const sources = JSON.parse(await text(process.stdin))
const plugin = {
  name: "other sources",
  setup(build) {
    // Of a folder that is not on disk the bundler resolves nothing by itself.
    build.onResolve({ filter: /^\./ }, ({ path, resolveDir }) => {
      const file = resolve(resolveDir, path)
      const added = relative(root, file) in sources && !existsSync(file)
      return added || !existsSync(resolveDir) ? { path: file } : undefined
    })
    build.onLoad({ filter: /src\/.*\.ts$/ }, ({ path }) => {
      const contents = sources[relative(root, path)]
      return contents === undefined
        ? undefined
        : { contents, loader: "ts", resolveDir: dirname(join(root, relative(root, path))) }
    })
  },
}
await bundle(process.argv[2], entryPoints, true, [plugin])
