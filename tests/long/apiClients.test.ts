import { execFileSync } from "node:child_process"
import { readFileSync } from "node:fs"
import { join } from "node:path"
import { endAll, outside, root, startService, tempFolder, writeFiles } from "../support/harness.ts"
import { quayBot } from "../support/quayBot.ts"

afterAll(endAll)

describe("the description of the API", () => {
  test("a client generated from it compiles, and knows the types of answers", async () => {
    const service = await startService({ bot: tempFolder(quayBot) })
    const source = await (await fetch(`${service.address}/api/openapi.json`)).text()
    const folder = tempFolder()
    const { default: generate, astToString } = await outside<typeof import("openapi-typescript")>("openapi-typescript")
    writeFiles(folder, {
      "api.ts": astToString(await generate(source)),
      "use.ts": `
        import type { operations, components } from "./api.ts"
        type Sent = operations["sendMessage"]["responses"]["202"]["content"]["application/json"]
        export const sent: Sent = { conversation: "cnv_1", messages: ["msg_1"] }
        type Page = operations["listMessages"]["responses"]["200"]["content"]["application/json"]
        export const idsOf = (page: Page): string[] => page.items.map((message) => message.id)
        export const field = (problem: components["schemas"]["Problem"]): string | undefined => problem.field
        // @ts-expect-error: a number is no list of ids
        export const wrong: Sent = { conversation: "cnv_1", messages: 1 }
      `,
    })
    const options = [
      "--noEmit",
      "--skipLibCheck",
      "--strict",
      "--target",
      "es2022",
      "--module",
      "esnext",
      "--moduleResolution",
      "bundler",
    ]
    const compiler = join(root, "node_modules/typescript/bin/tsc")
    execFileSync(process.execPath, [compiler, ...options, "--allowImportingTsExtensions", join(folder, "use.ts")])
  }, 60_000)

  test("its schemas of answers are as the types are", () => {
    execFileSync(process.execPath, [join(root, "scripts/answers.mjs"), "--check"])
    expect(JSON.parse(readFileSync(join(root, "src/service/answers.json"), "utf8"))).toHaveProperty("schemas")
  }, 60_000)
})
