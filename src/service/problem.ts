import type { FastifyError, FastifyReply, FastifyRequest } from "fastify"
import { catalogue, Trouble } from "../engine/trouble.ts"
import { databaseFault } from "../store/database.ts"

/** RFC 9457 problem details, with what to do next, and the field where one is wrong. */
export interface Problem {
  type: string
  title: string
  status: number
  detail: string
  remedy: string
  field?: string
}

/** @param status where it is another than the catalogue's */
export function problemOf(error: Error & Partial<FastifyError>, instead?: number): Problem {
  if (error instanceof Trouble) {
    return {
      type: `https://wobbet.invalid/problems/${error.code}`,
      title: error.title,
      status: instead ?? error.status,
      detail: error.message,
      remedy: error.remedy,
      ...(error.field ? { field: error.field } : {}),
    }
  }
  // The database ended a statement because its time was over, or all connections for lists were taken all the while.
  if ((error as { code?: string }).code === "57014" || error.name === "KnexTimeoutError")
    return problemOf(
      new Trouble(
        "too-slow",
        "The answer took so long that it was given up, so that others are not held up.",
        "Ask for less: one channel, a shorter time, a smaller page.",
      ),
    )
  if (databaseFault(error) === "away")
    return problemOf(
      new Trouble(
        "database-away",
        "PostgreSQL does not answer.",
        "Try again in a moment; what was sent to the inlets is not lost.",
      ),
    )
  const status = error.statusCode ?? 500
  if (status === 413)
    return problemOf(
      new Trouble("bad-input", "The body is longer than this call takes.", "Send less at once.", "body"),
      413,
    )
  if (status === 404 || status === 414)
    return problemOf(
      new Trouble(
        "not-found",
        "The address names something whose name is longer than any of ours.",
        "/api/openapi.json lists every call there is.",
      ),
    )
  if (status < 500) {
    const { title } = catalogue["bad-input"]
    return {
      type: "about:blank",
      title,
      status,
      detail: error.message,
      remedy: "Correct the request and send it again.",
    }
  }
  return {
    type: "about:blank",
    title: "An internal error",
    status: 500,
    detail: "Something went wrong inside the service. The log of the service says what.",
    remedy: "Try again; if it stays, look at the log.",
  }
}

export function answerProblem(
  error: Error & Partial<FastifyError>,
  request: FastifyRequest,
  reply: FastifyReply,
): FastifyReply {
  const problem = problemOf(error)
  if (problem.status === 500) request.log.error({ err: error }, "a request failed")
  if (problem.status === 401) void reply.header("www-authenticate", 'Bearer realm="Wobbet"')
  if (error instanceof Trouble && error.retryAfter !== undefined) void reply.header("retry-after", error.retryAfter)
  return reply.code(problem.status).type("application/problem+json").send(problem)
}
