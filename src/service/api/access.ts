import "@fastify/cookie"
import { randomBytes } from "node:crypto"
import type { FastifyReply, FastifyRequest } from "fastify"
import Joi from "joi"
import type { SessionShown, SessionView, TokenShown } from "../../client/types.ts"
import type { Engine } from "../../engine/engine.ts"
import { queueName } from "../../engine/handlers/queue.ts"
import { notFound, Trouble } from "../../engine/trouble.ts"
import type { SessionRow, TokenRow, Visitor } from "../../store/access.ts"
import {
  endSession,
  keepSession,
  keepToken,
  listSessions,
  listTokens,
  record,
  revokeToken,
  sessionSeconds,
  spendOnce,
  visitorBySession,
  visitorByToken,
} from "../../store/access.ts"
import type { ApiRoute, Given } from "../routes.ts"
import { route } from "../routes.ts"
import { addressOf, fromOurPages, overHttps, sessionCookie } from "../visitors.ts"

/** Bytes of a body that a stranger may send: a token, and no more. */
const strangersBody = 4096

const tokenRole = Joi.valid("owner", "developer", "operator", "reader", "bring", "worker")

export const accessRoutes: ApiRoute[] = [
  route("GET /session", {
    summary: "Who is signed in",
    role: "reader",
    answers: "Name and role, and the word our own pages repeat with every change.",
    handle: async ({ visitor }) => viewOf(visitor),
  }),
  route("POST /session", {
    summary: "Sign in to the console with a token, or with the word of a one-time sign-in",
    body: Joi.object({ token: Joi.string().max(500), once: Joi.string().max(500) }).xor("token", "once"),
    bodyLimit: strangersBody,
    answers: "Name and role; the session is in a cookie.",
    troubles: ["not-signed-in", "not-allowed", "too-many"],
    handle: async ({ engine, body, reply, request, visitors }) => {
      fromOurPages(request, engine)
      await visitors.mayTry(request)
      const { database } = engine
      const visitor = body.once
        ? await spendOnce(database, body.once)
        : await visitorByToken(database, body.token ?? "")
      if (!visitor) await visitors.failed(request, "a sign-in was refused")
      if (!visitor || visitor.role === "bring" || visitor.role === "worker")
        throw new Trouble(
          "not-signed-in",
          visitor
            ? `This token is valid only for ${visitor.role === "bring" ? "fetching one channel's calls" : "the turns of one queue"} alone.`
            : body.once
              ? "This one-time sign-in has been used, or is too old."
              : "This token is not known.",
          'On the service\'s own machine the token is in the file "token" of WOBBET_HOME.',
          body.once ? "once" : "token",
        )
      return viewOf(await openSession(engine, visitor, request, reply))
    },
  }),
  route("DELETE /session", {
    summary: "Sign out",
    role: "reader",
    answers: "Nothing.",
    handle: async ({ engine, request, reply, visitor, by }) => {
      if (visitor.csrf !== undefined) {
        await endSession(engine.database, visitor.id)
        await record(engine.database, by, "signed out")
      }
      engine.bell.ring("visitors")
      void reply.clearCookie(sessionCookie(request, engine), { path: "/", secure: overHttps(request, engine) })
    },
  }),
  route("GET /sessions", {
    summary: "Who is signed in to the console, the newest first",
    role: "owner",
    answers: "The sessions, since when, and when each was used last.",
    handle: async ({ engine }) => ({ items: (await listSessions(engine.reading)).map(sessionView), next: null }),
  }),
  route("DELETE /sessions/{id}", {
    summary: "End a session: whoever is in it is signed out",
    role: "owner",
    answers: "Nothing.",
    handle: async ({ engine, params, by }) => {
      const ended = await endSession(engine.database, params.id!)
      if (!ended) throw notFound("session", params.id!, '"wobbet token sessions" lists those there are.')
      engine.bell.ring("visitors")
      await record(engine.database, by, "session ended", { id: params.id, name: ended.name })
    },
  }),
  route("GET /tokens", {
    summary: "All tokens, the newest first, those revoked last",
    role: "owner",
    answers:
      "Each token's name, role, and when it was made, used last, expires or was revoked; never the token itself.",
    handle: async ({ engine }) => ({ items: (await listTokens(engine.reading)).map(tokenView), next: null }),
  }),
  route("POST /tokens", {
    summary: "Make a token",
    role: "owner",
    body: Joi.object({
      name: Joi.string()
        .max(100)
        .pattern(/^\P{C}+$/u)
        .message("a token's name must not contain control characters")
        .required()
        .description("whose it is; of those in use no two have the same"),
      role: tokenRole.required(),
      channel: Joi.string().max(63).when("role", { is: "bring", then: Joi.required(), otherwise: Joi.forbidden() }),
      queue: queueName.when("role", { is: "worker", then: Joi.required(), otherwise: Joi.forbidden() }),
      days: Joi.number().positive().max(3650).description("how many days it is valid; without end when left out"),
    }),
    answers: "The token. It is shown this once.",
    status: 201,
    troubles: ["taken", "not-found"],
    handle: async ({ engine, body, by }) => {
      const token = `wob_${randomBytes(30).toString("base64url")}`
      const { name, role, channel, queue, days } = body
      if (channel) engine.care.known(channel)
      const expiresAt = days === undefined ? undefined : new Date(Date.now() + days * 86_400_000)
      const id = await keepToken(engine.database, {
        token,
        name,
        role,
        by: by.name,
        ...(channel ? { channel } : {}),
        ...(queue ? { queue } : {}),
        ...(expiresAt ? { expiresAt } : {}),
      })
      if (id === undefined)
        throw new Trouble(
          "taken",
          `There is a token "${name}" already.`,
          "Give this one another name, or revoke that one first.",
          "name",
        )
      await record(engine.database, by, "token made", {
        id,
        name,
        role,
        ...(channel ? { channel } : {}),
        ...(queue ? { queue } : {}),
      })
      return { id, token, name, role, ...(expiresAt ? { expiresAt } : {}) }
    },
  }),
  route("DELETE /tokens/{id}", {
    summary: "Revoke a token, by its id or name; sessions that began with it end",
    role: "owner",
    answers: "The token, revoked.",
    handle: async ({ engine, params, by }) => {
      const revoked = await revokeToken(engine.database, params.id!)
      if (!revoked) throw notFound("token in use", params.id!, '"wobbet token list" lists those there are.')
      engine.bell.ring("visitors")
      await record(engine.database, by, "token revoked", { id: revoked.id, name: revoked.name })
      return tokenView(revoked)
    },
  }),
]

/** Opens a session for a visitor, under a new id: one that came along with the request ends. */
async function openSession(
  engine: Engine,
  visitor: Visitor,
  request: FastifyRequest,
  reply: FastifyReply,
): Promise<Visitor> {
  const { database } = engine
  const name = sessionCookie(request, engine)
  const before = request.cookies[name]
  const old = before ? await visitorBySession(database, before) : undefined
  if (old) await endSession(database, old.id)
  const secret = randomBytes(32).toString("base64url")
  const csrf = randomBytes(16).toString("base64url")
  const seconds = sessionSeconds.longest
  const id = await keepSession(database, {
    secret,
    kind: "session",
    csrf,
    visitor,
    seconds,
    address: addressOf(request),
  })
  await record(database, { name: visitor.name, id, address: addressOf(request) }, "signed in", { with: visitor.id })
  void reply.setCookie(name, secret, {
    path: "/",
    httpOnly: true,
    sameSite: "lax",
    maxAge: seconds,
    secure: overHttps(request, engine),
  })
  return { ...visitor, id, csrf }
}

function viewOf({ name, role, csrf, channel }: Visitor): SessionView {
  return { name, role, ...(csrf ? { csrf } : {}), ...(channel ? { channel } : {}) }
}

function tokenView(row: TokenRow): Given<TokenShown> {
  return {
    id: row.id,
    name: row.name,
    role: row.role,
    madeAt: row.created_at,
    ...(row.channel ? { channel: row.channel } : {}),
    ...(row.queue ? { queue: row.queue } : {}),
    ...(row.made_by ? { madeBy: row.made_by } : {}),
    ...(row.expires_at ? { expiresAt: row.expires_at } : {}),
    ...(row.revoked_at ? { revokedAt: row.revoked_at } : {}),
    ...(row.last_used_at ? { usedAt: row.last_used_at } : {}),
  }
}

function sessionView(row: SessionRow): Given<SessionShown> {
  return {
    id: row.id,
    name: row.name,
    role: row.role,
    startedAt: row.started_at,
    usedAt: row.seen_at,
    until: row.until,
    ...(row.address ? { address: row.address } : {}),
  }
}
