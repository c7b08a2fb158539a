import Joi from "joi"
import { goneInterview } from "../../core/interview/interviewRun.ts"
import type { HandlerKind } from "./handler.ts"
import { HandlerFault } from "./handler.ts"

/** `handler: name`: the function that a file under `handlers/` exports, run in a process of its own. */
export const code: HandlerKind = {
  kind: "code",
  schema: Joi.object({ code: Joi.string().required() }),
  async run(written, turn, release, { deadline, keeping, secrets }) {
    const handler = String(written.code)
    if (release.hosts) return release.hosts.run(handler, turn, deadline, keeping, secrets)
    // A bot that has no code any more: an interview that runs ends as one does whose handler is gone.
    if (keeping?.interview.goesOn) return { outcome: goneInterview(keeping.interview.id), log: [] }
    throw new HandlerFault({
      name: "NoHandler",
      message: `there is no handler "${handler}": the release ${release.id} has no code`,
    })
  },
}
