import Joi from "joi"
import type { HandlerKind } from "./handler.ts"

/** `handler: name`: the function that a file under `handlers/` exports, run in a process of its own. */
export const code: HandlerKind = {
  kind: "code",
  schema: Joi.object({ code: Joi.string().required() }),
  async run(written, turn, release, { deadline, keeping, secrets }) {
    if (!release.hosts) throw new Error(`The release ${release.id} has no code handlers.`)
    return release.hosts.run(String(written.code), turn, deadline, keeping, secrets)
  },
}
