import Joi from "joi"
import type { SecretView } from "../../client/types.ts"
import type { Engine } from "../../engine/engine.ts"
import { secretsOf } from "../../engine/handlers/registry.ts"
import { notFound, Trouble } from "../../engine/trouble.ts"
import { secretName } from "../../core/routing/botSchema.ts"
import { record } from "../../store/access.ts"
import { lanesWithRoutes } from "../../store/releases.ts"
import type { SecretRow } from "../../store/secrets.ts"
import { dropSecret, listSecrets, setSecret } from "../../store/secrets.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

const bot = Joi.string()
  .pattern(/^[a-z0-9][a-z0-9-]*$/)
  .max(100)
  .description("whose it is; may be left out where there is one bot")
const lane = Joi.string().max(60).description("the lane that has its own; all lanes where it is left out")

/** Bytes of a value: certificates and service accounts fit. */
const longest = 16 * 1024

/** Which routes of which lanes list each secret. */
async function viewsOf(engine: Engine, rows: SecretRow[]): Promise<SecretView[]> {
  const lanes = await lanesWithRoutes(engine.reading)
  return rows.map(({ setAt, lane, ...row }) => ({
    ...row,
    lane: lane === "" ? null : lane,
    setAt: setAt.toISOString(),
    usedBy: lanes.flatMap((one) =>
      one.bot === row.bot && (lane === "" || lane === one.lane)
        ? one.routes
            .filter((route) => secretsOf(route, one).includes(row.name))
            .map(({ name }) => `${name} (${one.lane})`)
        : [],
    ),
  }))
}

async function botOf(engine: Engine, given: string | undefined): Promise<string> {
  if (given !== undefined) return given
  const bots = [...new Set((await lanesWithRoutes(engine.reading)).map(({ bot }) => bot))]
  if (bots.length === 1) return bots[0]!
  throw new Trouble(
    "bad-input",
    bots.length === 0 ? "No bot is known yet." : `There are several bots: ${bots.join(", ")}.`,
    "Name the one whose secret it is.",
    "bot",
  )
}

export const secretRoutes: ApiRoute[] = [
  route("GET /secrets", {
    summary: "The secrets of bots, without their values",
    role: "developer",
    query: Joi.object({ bot }),
    answers: "All of them: whose, for which lane, when set and by whom, and which routes list them.",
    handle: async ({ engine, query }) => ({
      items: await viewsOf(engine, await listSecrets(engine.reading, query.bot)),
      next: null,
    }),
  }),
  route("PUT /secrets/{name}", {
    summary: "Set a secret that a bot's handlers may list, or replace it",
    role: "developer",
    body: Joi.object({
      value: Joi.string().min(4).max(longest).required().description("kept sealed, and never shown again"),
      bot,
      lane,
    }),
    answers: "The secret, without its value, and whether it replaced one.",
    troubles: ["bad-input"],
    handle: async ({ engine, params, body, by }) => {
      const { error, value: name } = secretName.validate(params.name) as { error?: Error; value: string }
      if (error)
        throw new Trouble(
          "bad-input",
          `"${params.name}" is no name for a secret: ${error.message}.`,
          "Name it so.",
          "name",
        )
      const of = { bot: await botOf(engine, body.bot), lane: body.lane ?? "", name }
      const replaced = await setSecret(engine.database, { ...of, sealed: engine.seal.seal(body.value), by: by.name })
      await record(engine.database, by, "secret set", { ...of, replaced })
      engine.bell.ring("secrets")
      const all = await viewsOf(engine, await listSecrets(engine.database, of.bot))
      return { ...all.find((one) => one.name === name && (one.lane ?? "") === of.lane)!, replaced }
    },
  }),
  route("DELETE /secrets/{name}", {
    summary: "Drop a secret; routes that list it fail until it is set again",
    role: "developer",
    query: Joi.object({ bot, lane }),
    answers: "Nothing.",
    troubles: ["not-found", "bad-input"],
    handle: async ({ engine, params, query, by }) => {
      const of = { bot: await botOf(engine, query.bot), lane: query.lane ?? "", name: params.name! }
      if (!(await dropSecret(engine.database, of)))
        throw notFound(
          "secret",
          of.lane ? `${of.name} of the lane ${of.lane}` : of.name,
          "wobbet secret list shows them.",
        )
      await record(engine.database, by, "secret dropped", of)
      engine.bell.ring("secrets")
    },
  }),
]
