import type { FastifyInstance, FastifyRequest } from "fastify"
import { bearerOf, faultRefusal, graphRefusal, handshake, serveDebugToken, signedPost } from "../shared/hub.ts"
import type { Body, Shown, Played, Postman, Stage } from "../shared/standin.ts"
import { act, jsonOf, playStandin, Refusal, snapshot, withFault } from "../shared/standin.ts"
import { checkMessage, shownOf } from "./check.ts"
import type { MessengerScene, World } from "./world.ts"

/** A made-up Messenger: one page, people, and what they write to each other. */
export type MessengerStandin = Played<World>

export async function startMessenger(
  scene: MessengerScene,
  options: { port?: number } = {},
): Promise<MessengerStandin> {
  const { people, ...rest } = scene
  const world: World = {
    ...rest,
    hook: undefined,
    permissions: ["pages_messaging", "pages_manage_metadata"],
    fields: [],
    attachments: new Map(),
    profile: {},
    heard: new Map(),
    pace: { delivered: 150, read: 900 },
  }
  return playStandin("A phone at the Messenger stand-in", people, world, options.port, (app, stage, postman) => {
    serveApi(app, stage, world, postman)
    servePeople(app, stage, world, postman)
  })
}

/** Brings an event to the service, if the page is subscribed to its sort. */
export function tell(world: World, postman: Postman, field: string, event: Body, list = "messaging"): void {
  if (!world.hook || !world.fields.includes(field)) return
  const entry = { id: world.page.id, time: Date.now(), [list]: [{ timestamp: Date.now(), ...event }] }
  postman.bring(signedPost(world.hook, world.appSecret, { object: "page", entry: [entry] }))
}

function serveApi(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const known = (request: FastifyRequest): void => {
    if (bearerOf(request.headers, request.query as { access_token?: string }) !== world.token)
      throw graphRefusal(400, 190, "Invalid OAuth access token - Cannot parse access token")
  }

  app.post("/:version/me/messages", async (request, reply) => {
    const body = jsonOf(request)
    const name = body.sender_action ? String(body.sender_action) : "message"
    try {
      known(request)
      return await withFault(
        stage,
        reply,
        (fault, seconds) => faultRefusal(fault, seconds, 613),
        () => {
          const answer = take(stage, world, postman, body)
          stage.record(name, body, 200, true)
          return answer
        },
      )
    } catch (error) {
      if (error instanceof Refusal) stage.record(name, body, error.status, false)
      throw error
    }
  })

  app.post("/:version/me/message_attachments", async (request) => {
    known(request)
    const type = String(request.headers["content-type"] ?? "")
    const form = await new Response(request.body as unknown as BodyInit, {
      headers: { "content-type": type },
    }).formData()
    const file = form.get("filedata")
    const message = JSON.parse(String(form.get("message"))) as { attachment?: { type?: string } }
    if (!(file instanceof Blob) || !message.attachment?.type)
      throw graphRefusal(400, 100, "filedata and message are required")
    const id = String(stage.number())
    world.attachments.set(id, { mime: file.type, content: Buffer.from(await file.arrayBuffer()) })
    stage.record("message_attachments", { id, size: file.size }, 200, true)
    return { attachment_id: id }
  })

  app.get<{ Params: { id: string } }>("/attachments/:id", async (request, reply) => {
    const found = world.attachments.get(request.params.id)
    if (!found) throw new Refusal(404, "gone")
    return reply.type(found.mime).send(found.content)
  })

  app.route<{ Params: { id: string } }>({
    method: ["GET", "POST", "DELETE"],
    url: "/:version/:id/subscribed_apps",
    handler: async (request) => {
      known(request)
      if (request.params.id !== world.page.id) throw graphRefusal(400, 100, "Object does not exist")
      if (request.method === "GET")
        return { data: world.fields.length > 0 ? [{ id: "1", name: "Ferry", subscribed_fields: world.fields }] : [] }
      const fields = jsonOf(request).subscribed_fields
      if (request.method === "POST" && typeof fields !== "string")
        throw graphRefusal(400, 100, "subscribed_fields is required")
      world.fields = request.method === "POST" ? String(fields).split(",") : []
      return { success: true }
    },
  })

  serveDebugToken(app, world.permissions, known)

  app.route({
    method: ["GET", "POST"],
    url: "/:version/me/messenger_profile",
    handler: async (request) => {
      known(request)
      if (request.method === "GET") return { data: Object.keys(world.profile).length > 0 ? [world.profile] : [] }
      const given = jsonOf(request)
      const [greeting] = (given.greeting ?? []) as { text?: string }[]
      if ((greeting?.text ?? "").length > 160) throw graphRefusal(400, 100, "Invalid parameter: greeting is too long")
      world.profile = { ...world.profile, ...given }
      return { result: "success" }
    },
  })

  app.get<{ Params: { id: string } }>("/:version/:id", async (request) => {
    known(request)
    const { id } = request.params
    if (id === "me") return { id: world.page.id, name: world.page.name }
    const person = stage.people.get(id)
    if (!person) throw graphRefusal(400, 100, "Unsupported get request", { error_subcode: 33 })
    const [first_name, ...rest] = person.name.split(" ")
    return { first_name, last_name: rest.join(" "), locale: "en_GB", id }
  })
}

function take(stage: Stage, world: World, postman: Postman, body: Body): object {
  const to = checkMessage(body, stage, world)
  if (body.sender_action) return { recipient_id: to }
  const message = body.message as Body
  const mid = `m_${stage.number()}`
  const shown: Shown = { id: mid, mine: false, ...shownOf(message), status: "sent" }
  stage.show(to, shown)
  const { metadata, ...content } = message
  tell(world, postman, "message_echoes", {
    sender: { id: world.page.id },
    recipient: { id: to },
    message: { mid, is_echo: true, app_id: 1, ...content, ...(metadata ? { metadata } : {}) },
  })
  const sentAt = Date.now()
  const mark = (field: string, name: string, word: string) => {
    shown.status = word
    const mids = name === "delivery" ? { mids: [mid] } : {}
    tell(world, postman, field, {
      sender: { id: to },
      recipient: { id: world.page.id },
      [name]: { ...mids, watermark: sentAt + 5 },
    })
  }
  setTimeout(() => mark("message_deliveries", "delivery", "delivered"), world.pace.delivered).unref()
  setTimeout(() => mark("message_reads", "read", "read"), world.pace.read).unref()
  return { recipient_id: to, message_id: mid }
}

function servePeople(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const person = (body: Body) => {
    const found = stage.people.get(String(body.from))
    if (!found) throw new Refusal(404, `there is no person ${String(body.from)}`)
    return found
  }
  const frame = (from: { id: string }) => ({ sender: { id: from.id }, recipient: { id: world.page.id } })
  const say = (from: { id: string }, text: string, content: Body) => {
    const mid = `m_${stage.number()}`
    world.heard.set(from.id, Date.now())
    stage.show(from.id, { id: mid, mine: true, text })
    tell(world, postman, "messages", { ...frame(from), message: { mid, ...content } })
    return { id: mid }
  }

  act(app, "hook", async (body) => {
    const hook = { url: String(body.url), verifyToken: String(body.verifyToken) }
    await handshake(hook)
    world.hook = hook
  })
  act(app, "say", (body) => {
    const from = person(body)
    const reply = body.replyTo ? { reply_to: { mid: body.replyTo } } : {}
    if (body.photo) {
      const id = String(stage.number())
      world.attachments.set(id, { mime: "image/svg+xml", content: snapshot(String(body.photo)) })
      const { port } = app.server.address() as { port: number }
      const attachments = [{ type: "image", payload: { url: `http://127.0.0.1:${port}/attachments/${id}` } }]
      return say(from, String(body.text ?? "(photo)"), {
        attachments,
        ...(body.text ? { text: body.text } : {}),
        ...reply,
      })
    }
    if (body.content) return say(from, "(…)", body.content as Body)
    return say(from, String(body.text), { text: body.text, ...reply })
  })
  act(app, "press", (body) => {
    const from = person(body)
    const wanted = String(body.button)
    const screen = stage.screen(from.id)
    for (const shown of [...screen].reverse()) {
      const button = shown.buttons?.find((button) => button.label === wanted || button.id === wanted)
      if (!button) continue
      if (button.id.startsWith("quick:"))
        return say(from, button.label, { text: button.label, quick_reply: { payload: button.id.slice(6) } })
      world.heard.set(from.id, Date.now())
      const mid = `m_${stage.number()}`
      stage.show(from.id, { id: mid, mine: true, text: button.label })
      tell(world, postman, "messaging_postbacks", {
        ...frame(from),
        postback: { mid, title: button.label, payload: button.id.slice(5) },
      })
      return { id: mid }
    }
    throw new Refusal(404, `there is no button "${wanted}" on the screen`)
  })
  act(app, "react", (body) => {
    const from = person(body)
    tell(world, postman, "message_reactions", {
      ...frame(from),
      reaction: { mid: body.message, action: "react", reaction: "love", emoji: body.emoji },
    })
  })
  act(app, "tell", (body) =>
    tell(world, postman, String(body.field), body.event as Body, body.standby ? "standby" : "messaging"),
  )
  act(app, "late-status", (body) => {
    const last = stage.screen(String(body.from)).findLast((one) => !one.mine)
    if (!last) throw new Refusal(404, "nothing was said yet")
    tell(world, postman, "message_deliveries", {
      ...frame({ id: String(body.from) }),
      delivery: { mids: [last.id], watermark: Date.now() - 60_000 },
    })
  })
  act(app, "close-window", (body) => void world.heard.set(String(body.from), Date.now() - 25 * 3_600_000))
  act(app, "revoke", () => void (world.token = `renewed-${stage.number()}`))
}
