import Joi from "joi"
import { listAudit } from "../../store/access.ts"
import type { ApiRoute } from "../routes.ts"
import { cursorOf, limit, lookedPage, route } from "../routes.ts"

export const auditRoutes: ApiRoute[] = [
  route("GET /audit", {
    summary: "Who did what, the newest first; nothing in it is ever changed or deleted",
    role: "owner",
    query: Joi.object({
      who: Joi.string().max(200).description("a name, or the id of a token or session"),
      did: Joi.string().max(200).description("what was done, such as channel changed"),
      limit,
      cursor: cursorOf("aud"),
    }),
    answers: "A page of the audit: who, by which token or session, from which address, what, when.",
    handle: async ({ engine, query }) => {
      const { cursor: below, ...filter } = query
      const found = lookedPage(await listAudit(engine.reading, { ...filter, ...(below ? { below } : {}) }))
      const items = found.items.map(({ token, address, detail, ...rest }) => ({
        ...rest,
        ...(token ? { by: token } : {}),
        ...(address ? { address } : {}),
        ...(detail ? { detail } : {}),
      }))
      return { ...found, items }
    },
  }),
]
