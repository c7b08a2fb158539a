import type { FastifyInstance, FastifyRequest } from "fastify"
import { bearerOf, faultRefusal, graphRefusal, handshake, serveDebugToken, signedPost } from "../shared/hub.ts"
import type { Body, Shown, Played, Postman, Stage } from "../shared/standin.ts"
import { act, jsonOf, playStandin, Refusal, snapshot, withFault } from "../shared/standin.ts"
import { checkMessage, shownOf } from "./check.ts"
import type { WhatsAppScene, World } from "./world.ts"

/** A made-up WhatsApp: one business account with one number, people, and what they write to each other. */
export type WhatsAppStandin = Played<World>

export async function startWhatsApp(scene: WhatsAppScene, options: { port?: number } = {}): Promise<WhatsAppStandin> {
  const { people, ...rest } = scene
  const world: World = {
    ...rest,
    hook: undefined,
    permissions: ["whatsapp_business_messaging", "whatsapp_business_management"],
    state: "CONNECTED",
    templates: new Map(),
    profile: {},
    commands: [],
    media: new Map(),
    heard: new Map(),
    pace: { delivered: 120, read: 900 },
    readers: new Set(people.map((person) => person.id)),
  }
  return playStandin("A phone at the WhatsApp stand-in", people, world, options.port, (app, stage, postman) => {
    serveApi(app, stage, world, postman)
    servePeople(app, stage, world, postman)
  })
}

/** Brings a change to the service. */
export function tell(world: World, postman: Postman, field: string, value: Body): void {
  if (!world.hook) return
  const body = {
    object: "whatsapp_business_account",
    entry: [
      {
        id: world.account,
        changes: [{ field, value: { messaging_product: "whatsapp", metadata: metadataOf(world), ...value } }],
      },
    ],
  }
  postman.bring(signedPost(world.hook, world.appSecret, body))
}

function metadataOf(world: World): Body {
  return { display_phone_number: world.number.display, phone_number_id: world.number.id }
}

function serveApi(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const known = (request: FastifyRequest, id?: string): void => {
    if (bearerOf(request.headers, request.query as { access_token?: string }) !== world.token)
      throw graphRefusal(401, 190, "Error validating access token: the session has expired")
    if (id !== undefined && id !== (request.params as { id: string }).id)
      throw graphRefusal(
        400,
        100,
        `Unsupported request. Object with ID '${(request.params as { id: string }).id}' does not exist`,
      )
  }

  app.post("/:version/:id/messages", async (request, reply) => {
    const body = jsonOf(request)
    const name = String(body.type ?? body.status ?? "message")
    try {
      known(request, world.number.id)
      return await withFault(
        stage,
        reply,
        (fault, seconds) => faultRefusal(fault, seconds, 130429),
        () => {
          const answer = body.status === "read" ? readMark(stage, body) : take(stage, world, postman, body)
          stage.record(name, body, 200, true)
          return answer
        },
      )
    } catch (error) {
      if (error instanceof Refusal) stage.record(name, body, error.status, false)
      throw error
    }
  })

  app.post("/:version/:id/media", async (request) => {
    known(request, world.number.id)
    const type = String(request.headers["content-type"] ?? "")
    const form = await new Response(request.body as unknown as BodyInit, {
      headers: { "content-type": type },
    }).formData()
    const file = form.get("file")
    if (form.get("messaging_product") !== "whatsapp" || !(file instanceof Blob))
      throw graphRefusal(400, 100, "Invalid parameter: messaging_product and file are required")
    const id = String(stage.number())
    world.media.set(id, { mime: file.type, content: Buffer.from(await file.arrayBuffer()) })
    stage.record("media", { id, mime: file.type, size: file.size }, 200, true)
    return { id }
  })

  app.get<{ Params: { id: string } }>("/file/:id", async (request, reply) => {
    known(request)
    const found = world.media.get(request.params.id)
    if (!found) throw new Refusal(404, "the address has expired")
    return reply.type(found.mime).send(found.content)
  })

  app.route({
    method: ["GET", "POST", "DELETE"],
    url: "/:version/:id/subscribed_apps",
    handler: async (request) => {
      known(request, world.account)
      if (request.method === "GET") {
        if (!world.hook) return { data: [] }
        return {
          data: [{ whatsapp_business_api_data: { id: "1", name: "Ferry" }, override_callback_uri: world.hook.url }],
        }
      }
      if (request.method === "DELETE") world.hook = undefined
      else {
        const body = jsonOf(request)
        const hook = { url: String(body.override_callback_uri), verifyToken: String(body.verify_token) }
        await handshake(hook)
        world.hook = hook
      }
      return { success: true }
    },
  })

  app.route({
    method: ["GET", "POST", "DELETE"],
    url: "/:version/:id/message_templates",
    handler: async (request) => {
      known(request, world.account)
      if (request.method === "GET") return { data: [...world.templates.values()] }
      const body = { ...(request.query as Body), ...jsonOf(request) }
      if (request.method === "DELETE") return { success: world.templates.delete(String(body.name)) }
      const words = (body.components as Body[] | undefined)?.find((component) => component.type === "BODY")?.text
      if (!/^[a-z0-9_]{1,512}$/.test(String(body.name)) || typeof words !== "string")
        throw graphRefusal(400, 100, "Invalid parameter: name and a body text are required")
      const parameters = new Set(words.match(/\{\{\w+\}\}/g) ?? []).size
      const made = {
        name: String(body.name),
        language: String(body.language),
        status: "PENDING",
        parameters,
        id: stage.number(),
      }
      world.templates.set(made.name, made)
      return { id: String(made.id), status: "PENDING", category: body.category }
    },
  })

  serveDebugToken(app, world.permissions, known)

  app.route({
    method: ["GET", "POST"],
    url: "/:version/:id/whatsapp_business_profile",
    handler: async (request) => {
      known(request, world.number.id)
      if (request.method === "GET") return { data: [{ messaging_product: "whatsapp", ...world.profile }] }
      const { messaging_product, ...given } = jsonOf(request) as Body & World["profile"]
      if (messaging_product !== "whatsapp") throw graphRefusal(400, 100, "messaging_product is required")
      if ((given.about ?? "").length > 139 || (given.description ?? "").length > 512)
        throw graphRefusal(400, 100, "Invalid parameter: too long")
      world.profile = { ...world.profile, ...given }
      return { success: true }
    },
  })

  app.post("/:version/:id/conversational_automation", async (request) => {
    known(request, world.number.id)
    const { commands } = jsonOf(request)
    if (!Array.isArray(commands) || commands.length > 30) throw graphRefusal(400, 100, "Invalid parameter: commands")
    world.commands = commands as object[]
    return { success: true }
  })

  app.get<{ Params: { id: string }; Querystring: { fields?: string } }>("/:version/:id", async (request) => {
    known(request)
    const { id } = request.params
    if (id === world.number.id && request.query.fields === "conversational_automation")
      return { id, ...(world.commands.length > 0 ? { conversational_automation: { commands: world.commands } } : {}) }
    if (id === world.number.id)
      return {
        id,
        display_phone_number: world.number.display,
        verified_name: world.number.name,
        quality_rating: "GREEN",
        status: world.state,
      }
    const found = world.media.get(id)
    if (!found) throw graphRefusal(400, 100, `Unsupported get request. Object with ID '${id}' does not exist`)
    const url = `http://${request.headers.host}/file/${id}`
    return { messaging_product: "whatsapp", url, mime_type: found.mime, file_size: found.content.length, id }
  })
}

function take(stage: Stage, world: World, postman: Postman, body: Body): object {
  checkMessage(body, stage, world)
  const to = String(body.to)
  const id = `wamid.${Buffer.from(String(stage.number())).toString("base64").replace(/=+$/, "")}`
  const shown: Shown = { id, mine: false, ...shownOf(body), status: "sent" }
  stage.show(to, shown)
  const data = body.biz_opaque_callback_data as string | undefined
  const status = (word: string, more: Body = {}) => {
    shown.status = word
    tell(world, postman, "messages", {
      statuses: [
        {
          id,
          status: word,
          timestamp: String(Math.floor(Date.now() / 1000)),
          recipient_id: to,
          ...(data ? { biz_opaque_callback_data: data } : {}),
          ...more,
        },
      ],
    })
  }
  if (body.type !== "reaction") {
    setTimeout(() => status("sent"), 20).unref()
    setTimeout(() => status("delivered"), world.pace.delivered).unref()
    if (world.readers.has(to)) setTimeout(() => status("read"), world.pace.read).unref()
  }
  return { messaging_product: "whatsapp", contacts: [{ input: to, wa_id: to }], messages: [{ id }] }
}

function readMark(stage: Stage, body: Body): object {
  const id = String(body.message_id)
  const known = [...stage.screens.values()].some((screen) => screen.some((one) => one.id === id && one.mine))
  if (!known) throw graphRefusal(400, 100, "Invalid parameter: message_id is unknown")
  return { success: true }
}

function servePeople(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const person = (body: Body) => {
    const found = stage.people.get(String(body.from))
    if (!found) throw new Refusal(404, `there is no person ${String(body.from)}`)
    return found
  }
  const say = (from: { id: string; name: string }, text: string, content: Body, shown: Partial<Shown> = {}) => {
    const id = `wamid.p${stage.number()}`
    world.heard.set(from.id, Date.now())
    stage.show(from.id, { id, mine: true, text, ...shown })
    tell(world, postman, "messages", {
      contacts: [{ profile: { name: from.name }, wa_id: from.id }],
      messages: [{ from: from.id, id, timestamp: String(Math.floor(Date.now() / 1000)), ...content }],
    })
    return { id }
  }

  act(app, "say", (body) => {
    const from = person(body)
    const context = body.replyTo ? { context: { from: world.number.display, id: body.replyTo } } : {}
    if (body.photo) {
      const id = String(stage.number())
      world.media.set(id, { mime: "image/svg+xml", content: snapshot(String(body.photo)) })
      const caption = body.text ? { caption: body.text } : {}
      return say(from, String(body.text ?? "(photo)"), {
        type: "image",
        image: { id, mime_type: "image/svg+xml", sha256: "x", ...caption },
        ...context,
      })
    }
    if (body.content) return say(from, `(${String((body.content as Body).type)})`, body.content as Body)
    return say(from, String(body.text), { type: "text", text: { body: body.text }, ...context })
  })
  act(app, "press", (body) => {
    const from = person(body)
    const wanted = String(body.button)
    for (const shown of [...stage.screen(from.id)].reverse()) {
      const button = shown.buttons?.find((button) => button.label === wanted || button.id === wanted)
      if (!button) continue
      const reply = { id: button.id, title: button.label }
      const inner =
        shown.buttons!.length > 3
          ? { type: "list_reply", list_reply: reply }
          : { type: "button_reply", button_reply: reply }
      return say(from, button.label, {
        type: "interactive",
        interactive: inner,
        context: { from: world.number.display, id: shown.id },
      })
    }
    throw new Refusal(404, `there is no button "${wanted}" on the screen`)
  })
  act(app, "react", (body) =>
    say(person(body), String(body.emoji ?? "(reaction taken back)"), {
      type: "reaction",
      reaction: { message_id: body.message, ...(body.emoji ? { emoji: body.emoji } : {}) },
    }),
  )
  act(app, "tell", (body) => tell(world, postman, String(body.field), body.value as Body))
  act(app, "template", (body) => {
    const found = world.templates.get(String(body.name))
    if (!found) throw new Refusal(404, "there is no such template")
    found.status = String(body.event)
    tell(world, postman, "message_template_status_update", {
      event: found.status,
      message_template_id: found.id,
      message_template_name: found.name,
      message_template_language: found.language,
      reason: body.reason ?? "NONE",
    })
  })
  act(app, "late-status", (body) => {
    const last = stage.screen(String(body.from)).findLast((one) => !one.mine)
    if (!last) throw new Refusal(404, "nothing was said yet")
    const timestamp = String(Math.floor(Date.now() / 1000) - 60)
    tell(world, postman, "messages", {
      statuses: [{ id: last.id, status: body.status, timestamp, recipient_id: body.from }],
    })
  })
  act(app, "close-window", (body) => void world.heard.set(String(body.from), Date.now() - 25 * 3_600_000))
  act(app, "revoke", () => void (world.token = `renewed-${stage.number()}`))
}
