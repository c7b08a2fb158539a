import { fileURLToPath } from "node:url"
import type { BuiltFiles } from "../service/service.ts"

/** What the build laid beside this file. */
export const builtFiles: BuiltFiles = {
  hostScript: fileURLToPath(new URL("./host.js", import.meta.url)),
  sideScript: fileURLToPath(new URL("./side.js", import.meta.url)),
  sdk: fileURLToPath(new URL("./sdk.js", import.meta.url)),
  console: fileURLToPath(new URL("./console", import.meta.url)),
}

/** The types of the SDK. */
export const sdkDeclaration = fileURLToPath(new URL("./types/sdk/index.d.ts", import.meta.url))
