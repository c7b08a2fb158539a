import { DateTime } from "luxon"
import type { ModelView } from "../../client/types.ts"
import type { Engine } from "../../engine/engine.ts"
import { lanesWithRoutes } from "../../store/releases.ts"
import { usedOn } from "../../store/spending.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

/** Each bot's models, as the first of its lanes has them, with what is used of them today. */
async function modelsOf({ reading }: Engine, now: Date): Promise<ModelView[]> {
  const views = new Map<string, ModelView>()
  for (const { bot, lane, models, routes, zone } of await lanesWithRoutes(reading)) {
    if (Object.keys(models ?? {}).length === 0) continue
    const day = DateTime.fromJSDate(now, { zone: zone ?? "UTC" }).toISODate()!
    const used = await usedOn(reading, bot, day)
    for (const [name, { address, model, prices, limits }] of Object.entries(models ?? {})) {
      const askedBy = routes
        .filter(({ handler }) => typeof handler === "object" && "model" in handler && handler.model === name)
        .map((one) => `${one.name} (${lane})`)
      const known = views.get(`${bot} ${name}`)
      if (known) {
        known.askedBy.push(...askedBy)
        continue
      }
      const { calls, tokens, money, most } = used.find((one) => one.model === name) ?? nothing
      views.set(`${bot} ${name}`, {
        ...{ bot, name, address, model, askedBy, day },
        ...(prices ? { prices } : {}),
        ...(limits ? { limits } : {}),
        used: prices || limits ? { all: { calls, tokens, money }, most } : null,
      })
    }
  }
  return [...views.values()]
}

const nothing = { calls: 0, tokens: 0, money: 0, most: { calls: 0, tokens: 0, money: 0 } }

export const modelRoutes: ApiRoute[] = [
  route("GET /models", {
    summary: "The models that bots ask, and what is used of them today",
    role: "reader",
    answers:
      "Each with its server, the routes that ask it, its limits, and today's calls, tokens and money: of everybody together and of whoever used most. What is reserved for calls under way counts.",
    handle: async ({ engine }) => ({ items: await modelsOf(engine, new Date()), next: null }),
  }),
]
