import type { Description } from "./support/apiDescription.ts"
import { operationsOf } from "./support/apiDescription.ts"
import type { Service } from "./support/harness.ts"
import { endAll, outside, Stage, startService, startStandin, tempFolder } from "./support/harness.ts"
import { quayBot } from "./support/quayBot.ts"

let service: Service
let stage: Stage
let source: string
let description: Description

beforeAll(async () => {
  const standin = await startStandin()
  service = await startService({ bot: tempFolder(quayBot) })
  stage = await Stage.set(service, standin)
  await stage.say("say hi")
  await stage.answered(1)
  await stage.say("fail")
  source = await (await fetch(`${service.address}/api/openapi.json`)).text()
  description = JSON.parse(source) as Description
}, 60_000)
afterAll(endAll)

const operations = () => operationsOf(description)

describe("the description of the API", () => {
  test("has no fault and no warning for a public linter", async () => {
    const { createConfig, lintFromString } =
      await outside<typeof import("@redocly/openapi-core")>("@redocly/openapi-core")
    const config = await createConfig({ extends: ["recommended"] })
    const found = await lintFromString({ source, config })
    expect(found.map((one) => `${one.severity} ${one.ruleId}: ${one.message} ${one.location[0]?.pointer}`)).toEqual([])
  })

  test("says what each operation is called, what it takes and what each status answers", () => {
    for (const { path, method, operation } of operations()) {
      const where = `${method} ${path}`
      expect([where, /^[a-z]\w+$/.test(operation.operationId)]).toEqual([where, true])
      for (const [status, { $ref, content }] of Object.entries(operation.responses))
        if (!path.startsWith("/in/"))
          expect([where, status, $ref !== undefined || content !== undefined || status === "204"]).toEqual([
            where,
            status,
            true,
          ])
      if (operation.requestBody && !path.startsWith("/in/"))
        expect([where, typeof operation.requestBody.content["application/json"].example]).toEqual([where, "object"])
    }
  })
})

test("each role may what it may, and every other token nothing, on every route", async () => {
  const { client } = service
  await client.addChannel({ kind: "custom", key: "matrix" })
  const tokens: { [who: string]: string | undefined } = { nobody: undefined, unknown: "wob_unknown" }
  for (const role of ["reader", "operator", "developer", "owner"])
    tokens[role] = (await client.makeToken(`matrix ${role}`, role)).token
  tokens.bring = (await client.makeToken("matrix bring", "bring", "matrix")).token
  tokens.expired = (await client.makeToken("matrix expired", "owner", undefined, 0.000_000_1)).token
  tokens.revoked = (await client.makeToken("matrix revoked", "owner")).token
  await client.revokeToken("matrix revoked")
  const ranks = ["reader", "operator", "developer", "owner"]
  const mismatches: string[] = []
  let asked = 0
  for (const { path, method, operation } of operations()) {
    // Who calls an inlet shows by its provider's signature that it may.
    if (path.startsWith("/in/")) continue
    const least = /Takes the role (\w+)/.exec(operation.description)?.[1]
    const forBring = operation.description.includes("A token for bringing")
    for (const [who, token] of Object.entries(tokens)) {
      if (who === "owner" && method === "DELETE") continue
      const answer = await fetch(`${service.address}${path.replace("{key}", "matrix").replace(/\{\w+\}/, "nothing")}`, {
        method: operation.operationId === "listen" ? "HEAD" : method,
        headers: {
          ...(token === undefined ? {} : { authorization: `Bearer ${token}` }),
          ...(operation.requestBody ? { "content-type": "application/json" } : {}),
        },
        // What is asked for is never right, so that nothing is done.
        ...(operation.requestBody ? { body: '{"odd":true}' } : {}),
      })
      asked++
      // The token of one turn opens this, and no other does.
      const ofTurn = operation.description.includes("Takes the token of the turn")
      const expected = ofTurn
        ? "401"
        : least === undefined
          ? "in"
          : ranks.includes(who)
            ? ranks.indexOf(who) >= ranks.indexOf(least)
              ? "in"
              : "403"
            : who === "bring"
              ? forBring
                ? "in"
                : "403"
              : "401"
      const found = answer.status === 401 || answer.status === 403 ? String(answer.status) : "in"
      // Signing in without a token that is known is answered with 401 as well, and so is too much of it.
      if (found !== expected && answer.status !== 429) mismatches.push(`${who} ${method} ${path}: ${answer.status}`)
    }
  }
  expect(mismatches).toEqual([])
  expect(asked).toBeGreaterThan(400)
}, 120_000)
