import { transformSync } from "esbuild"

export default {
  process(source, file) {
    if (file.endsWith(".yaml")) return { code: `export default ${JSON.stringify(source)}` }
    const { code, map } = transformSync(source, {
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
