import { notFound } from "../../engine/trouble.ts"
import { contentOf } from "../../store/media.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

export const mediaRoutes: ApiRoute[] = [
  route("GET /media/{hash}", {
    summary: "The content of a picture, sound or file that came with a message",
    role: "reader",
    content: "*/*",
    answers: "The content, with its type. Messages name the hash under kept.",
    handle: async ({ engine, params, reply }) => {
      const found = await contentOf(engine.reading, params.hash!)
      if (!found) throw notFound("media", params.hash!, "A message names what was kept with it under kept.")
      const shown = /^(image|audio|video)\//.test(found.mime)
      // Foreign content: it is shown, never run.
      return reply
        .type(found.mime)
        .header("content-security-policy", "sandbox; default-src 'none'; style-src 'unsafe-inline'")
        .header("x-content-type-options", "nosniff")
        .header("content-disposition", shown ? "inline" : "attachment")
        .header("cache-control", "private, max-age=86400, immutable")
        .send(found.content)
    },
  }),
]
