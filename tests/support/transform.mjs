import { createHash } from "node:crypto"
import { readFileSync } from "node:fs"
import { relative } from "node:path"
import { fileURLToPath } from "node:url"
import { transformSync } from "esbuild"
import { marked } from "../../scripts/marks.mjs"

const root = fileURLToPath(new URL("../..", import.meta.url))

const ownWords = ["./transform.mjs", "../../scripts/marks.mjs"].map((file) =>
  readFileSync(new URL(file, import.meta.url)),
)

export default {
  getCacheKey(source, file) {
    return [file, source, ...ownWords].reduce((hash, text) => hash.update(text), createHash("sha256")).digest("hex")
  },
  process(source, file) {
    if (file.endsWith(".yaml")) return { code: `export default ${JSON.stringify(source)}` }
    const name = relative(root, file)
    const { code, map } = transformSync(/^(src|demo)\/.*(?<!test)\.tsx?$/.test(name) ? marked(source, name) : source, {
      loader: file.endsWith("x") ? "tsx" : "ts",
      format: "esm",
      target: "node20",
      sourcemap: true,
      sourcefile: file,
      define: { FAULTS_BUILT: "false", VERSION: '"0.0.0"' },
    })
    return { code, map }
  },
}
