import "@fastify/cookie"
import { randomBytes } from "node:crypto"
import Joi from "joi"
import { Trouble } from "../../engine/trouble.ts"
import type { Visitor } from "../../store/access.ts"
import { endSession, keepSession, keepToken, record, visitorByToken } from "../../store/access.ts"
import type { Database } from "../../store/database.ts"
import type { ApiRoute } from "../routes.ts"
import { route } from "../routes.ts"

export const sessionCookie = "wobbet_session"
const sessionSeconds = 14 * 86_400

/** Opens a session for a visitor; gives the cookie's value and the word that our own pages must repeat. */
export async function openSession(database: Database, visitor: Visitor): Promise<{ cookie: string; csrf: string }> {
  const cookie = randomBytes(32).toString("base64url")
  const csrf = randomBytes(16).toString("base64url")
  await keepSession(database, { secret: cookie, kind: "session", csrf, visitor, seconds: sessionSeconds })
  return { cookie, csrf }
}

export const cookieOptions = { path: "/", httpOnly: true, sameSite: "lax" as const, maxAge: sessionSeconds }

export const accessRoutes: ApiRoute[] = [
  route("GET /session", {
    summary: "Who is signed in",
    role: "reader",
    answers: "Name and role, and the word our own pages repeat with every change.",
    handle: async ({ visitor }) => visitor,
  }),
  route("POST /session", {
    summary: "Sign in to the console with a token",
    body: Joi.object({ token: Joi.string().max(500).required() }),
    answers: "Name and role; the session is in a cookie.",
    handle: async ({ engine, body, reply, request }) => {
      const visitor = await visitorByToken(engine.database, body.token)
      if (!visitor || visitor.role === "bring")
        throw new Trouble(
          "not-signed-in",
          visitor ? "This token is good for fetching one channel's calls alone." : "No such token is known.",
          'On the service\'s own machine the token is in the file "token" of WOBBET_HOME.',
          "token",
        )
      const { cookie, csrf } = await openSession(engine.database, visitor)
      void reply.setCookie(sessionCookie, cookie, { ...cookieOptions, secure: request.protocol === "https" })
      return { ...visitor, csrf }
    },
  }),
  route("DELETE /session", {
    summary: "Sign out",
    role: "reader",
    answers: "Nothing.",
    handle: async ({ engine, request, reply }) => {
      const cookie = request.cookies[sessionCookie]
      if (cookie) await endSession(engine.database, cookie)
      engine.bell.ring("visitors")
      void reply.clearCookie(sessionCookie, { path: "/" })
    },
  }),
  route("POST /tokens", {
    summary: "Make a token",
    role: "owner",
    body: Joi.object({
      name: Joi.string().max(100).required(),
      role: Joi.valid("owner", "developer", "operator", "reader", "bring").required(),
      channel: Joi.string().when("role", { is: "bring", then: Joi.required(), otherwise: Joi.forbidden() }),
    }),
    answers: "The token. It is shown this once.",
    status: 201,
    handle: async ({ engine, body, visitor }) => {
      const token = `wob_${randomBytes(30).toString("base64url")}`
      if (body.channel) engine.care.known(body.channel)
      await keepToken(engine.database, token, body.name, body.role, body.channel)
      await record(engine.database, visitor.name, "token made", { name: body.name, role: body.role })
      return { token, name: body.name, role: body.role }
    },
  }),
]
