import { createHmac } from "node:crypto"
import type { FastifyInstance, FastifyReply, FastifyRequest } from "fastify"
import type { Body, Post, Shown, Played, Postman, Stage } from "../shared/standin.ts"
import { act, playStandin, Refusal, snapshot, withFault } from "../shared/standin.ts"
import { checkPost, shownOf } from "./check.ts"

/** A made-up Slack workspace: an app with a bot, people, channels and direct conversations. */
export type SlackStandin = Played<World>

export interface SlackScene {
  team: { id: string; name: string }
  bot: { id: string; user: string; name: string }
  token: string
  signingSecret: string
  /** Where calls go: as a person enters it in the provider's pages. */
  hook: string
  scopes: string[]
  people: { id: string; name: string }[]
  channels: { id: string; name: string; botIn: boolean }[]
}

interface Message {
  ts: string
  channel: string
  user?: string
  bot_id?: string
  text: string
  blocks?: unknown
  thread_ts?: string
  metadata?: unknown
}

export interface World extends Omit<SlackScene, "people"> {
  messages: Message[]
  files: Map<string, { name: string; content: Buffer; mime: string; completed: boolean }>
  /** Addresses to answer at, with how many posts they still take. */
  responses: Map<string, { channel: string; left: number; until: number }>
  lastTs: number
}

export async function startSlack(scene: SlackScene, options: { port?: number } = {}): Promise<SlackStandin> {
  const { people, ...rest } = scene
  const world: World = { ...rest, messages: [], files: new Map(), responses: new Map(), lastTs: 0 }
  return playStandin("A seat at the Slack stand-in", people, world, options.port, (app, stage, postman) => {
    serveApi(app, stage, world)
    servePeople(app, stage, world, postman)
  })
}

/** The direct conversation of a person with the bot. */
export function directOf(person: string): string {
  return `D${person.slice(1)}`
}

export function signed(world: World, body: string, type: string, repeats: boolean, at = Date.now()): Post {
  const time = String(Math.floor(at / 1000))
  const digest = createHmac("sha256", world.signingSecret).update(`v0:${time}:${body}`).digest("hex")
  return {
    url: world.hook,
    headers: { "content-type": type, "x-slack-request-timestamp": time, "x-slack-signature": `v0=${digest}` },
    body,
    repeats,
  }
}

function tellEvent(stage: Stage, world: World, postman: Postman, event: Body): void {
  const body = JSON.stringify({
    token: "old",
    team_id: world.team.id,
    api_app_id: "A1",
    type: "event_callback",
    event_id: `Ev${stage.number()}`,
    event_time: Math.floor(Date.now() / 1000),
    event,
  })
  const post = signed(world, body, "application/json", true)
  postman.bring({ ...post, signed: () => signed(world, body, "application/json", true).headers })
}

function nextTs(world: World): string {
  world.lastTs = Math.max(world.lastTs + 1, Math.floor(Date.now() * 1000))
  return `${Math.floor(world.lastTs / 1e6)}.${String(world.lastTs % 1e6).padStart(6, "0")}`
}

const no = (error: string, more: object = {}) => new Refusal(200, error, { ok: false, error, ...more })

/** Where a call may speak: the bot's own channels, direct conversations, and people by their id. */
function placeOf(stage: Stage, world: World, given: unknown): string {
  if (typeof given !== "string" || given === "") throw no("channel_not_found")
  if (stage.people.has(given)) return directOf(given)
  if (given.startsWith("D") && [...stage.people.keys()].some((id) => directOf(id) === given)) return given
  const channel = world.channels.find((channel) => channel.id === given)
  if (!channel) throw no("channel_not_found")
  if (!channel.botIn) throw no("not_in_channel")
  return given
}

function serveApi(app: FastifyInstance, stage: Stage, world: World): void {
  app.route<{ Params: { method: string } }>({
    method: ["GET", "POST"],
    url: "/api/:method",
    handler: async (request, reply) => {
      const { method } = request.params
      const body = argumentsOf(request)
      void reply.header("x-oauth-scopes", world.scopes.join(","))
      try {
        if (request.headers.authorization !== `Bearer ${world.token}`)
          throw no(request.headers.authorization ? "invalid_auth" : "not_authed")
        const run = methods[method]
        if (!run) throw no("unknown_method")
        const speaks = /^(chat\.|files\.complete)/.test(method)
        const answer = () => {
          const result = run(stage, world, body, request)
          stage.record(method, body, 200, true)
          return { ok: true, ...result }
        }
        return speaks ? await withFault(stage, reply, faultRefusal, answer) : answer()
      } catch (error) {
        if (error instanceof Refusal) stage.record(method, body, error.status, false)
        throw error
      }
    },
  })
  app.post<{ Params: { id: string } }>("/upload/:id", async (request) => {
    const file = world.files.get(request.params.id)
    if (!file) throw new Refusal(404, "no such upload")
    const type = String(request.headers["content-type"] ?? "")
    const form = await new Response(request.body as unknown as BodyInit, {
      headers: { "content-type": type },
    }).formData()
    const [part] = [...form.values()]
    if (!(part instanceof Blob)) throw new Refusal(400, "no file in the form")
    file.content = Buffer.from(await part.arrayBuffer())
    return "OK"
  })
  app.get<{ Params: { id: string } }>("/files/:id", async (request, reply) => {
    if (request.headers.authorization !== `Bearer ${world.token}` || !world.scopes.includes("files:read"))
      return reply.type("text/html").send("<!doctype html><title>Sign in</title>")
    const file = world.files.get(request.params.id)
    if (!file) throw new Refusal(404, "gone")
    return reply.type(file.mime).send(file.content)
  })
  app.post<{ Params: { id: string } }>("/respond/:id", async (request, reply) => respond(stage, world, request, reply))
}

function respond(
  stage: Stage,
  world: World,
  request: FastifyRequest<{ Params: { id: string } }>,
  reply: FastifyReply,
): unknown {
  const open = world.responses.get(request.params.id)
  if (!open || Date.now() > open.until) return reply.code(404).send("expired_url")
  if (open.left <= 0) return reply.code(404).send("used_url")
  const body = argumentsOf(request)
  return withFault(stage, reply, faultRefusal, () => {
    checkPost(body, (error) => new Refusal(400, error, { ok: false, error }))
    open.left--
    stage.record("response_url", body, 200, true)
    const shown = post(stage, world, open.channel, body)
    if (body.response_type !== "in_channel") shown.text = `(only you) ${shown.text}`
    return reply.type("text/plain").send("ok")
  })
}

function faultRefusal(fault: "429" | "500", seconds: number): Refusal {
  return fault === "429"
    ? new Refusal(429, "ratelimited", { ok: false, error: "ratelimited" }, { "retry-after": String(seconds) })
    : new Refusal(500, "internal_error", { ok: false, error: "internal_error" })
}

function argumentsOf(request: FastifyRequest): Body {
  const raw = (request.body as Buffer | undefined)?.toString("utf8") ?? ""
  const query = request.query as Body
  if (raw === "") return query
  if (String(request.headers["content-type"]).includes("json")) {
    try {
      return JSON.parse(raw) as Body
    } catch {
      throw no("invalid_json")
    }
  }
  return { ...query, ...Object.fromEntries(new URLSearchParams(raw)) }
}

function post(stage: Stage, world: World, channel: string, body: Body): Shown {
  const ts = nextTs(world)
  const message: Message = {
    ts,
    channel,
    bot_id: world.bot.id,
    user: world.bot.user,
    text: String(body.text ?? ""),
    ...(body.blocks ? { blocks: body.blocks } : {}),
    ...(typeof body.thread_ts === "string" ? { thread_ts: body.thread_ts } : {}),
    ...(body.metadata ? { metadata: body.metadata } : {}),
  }
  world.messages.push(message)
  if (world.messages.length > 20_000) world.messages.splice(0, 10_000)
  return stage.show(screenOf(stage, channel), { id: ts, mine: false, ...shownOf(body) })
}

/** A direct conversation stands on the person's screen, a channel on its own. */
function screenOf(stage: Stage, channel: string): string {
  return [...stage.people.keys()].find((id) => directOf(id) === channel) ?? channel
}

type Method = (stage: Stage, world: World, body: Body, request: FastifyRequest) => object

const methods: { [name: string]: Method } = {
  "auth.test": (_stage, world) => ({
    url: "https://ternpoint.example/",
    team: world.team.name,
    team_id: world.team.id,
    user: world.bot.name,
    user_id: world.bot.user,
    bot_id: world.bot.id,
  }),
  "users.info"(stage, _world, body) {
    const person = stage.people.get(String(body.user))
    if (!person) throw no("user_not_found")
    const handle = person.name.toLowerCase().split(" ")[0]
    return {
      user: {
        id: person.id,
        name: handle,
        real_name: person.name,
        locale: "en-GB",
        profile: { display_name: person.name },
      },
    }
  },
  "chat.postMessage"(stage, world, body) {
    const channel = placeOf(stage, world, body.channel)
    checkPost(body, no)
    const shown = post(stage, world, channel, body)
    return { channel, ts: shown.id, message: { ts: shown.id, text: body.text } }
  },
  "chat.update"(stage, world, body) {
    const channel = placeOf(stage, world, body.channel)
    checkPost(body, no)
    const found = world.messages.find((message) => message.channel === channel && message.ts === body.ts)
    if (!found) throw no("message_not_found")
    if (found.bot_id !== world.bot.id) throw no("cant_update_message")
    const shown = stage.screen(screenOf(stage, channel)).find((one) => one.id === body.ts)
    if (shown) {
      delete shown.buttons
      Object.assign(shown, shownOf(body))
    }
    return { channel, ts: body.ts, text: body.text }
  },
  "chat.delete"(stage, world, body) {
    const channel = placeOf(stage, world, body.channel)
    const shown = stage.screen(screenOf(stage, channel)).find((one) => one.id === body.ts)
    if (!shown || shown.gone) throw no("message_not_found")
    shown.gone = true
    return { channel, ts: body.ts }
  },
  "reactions.add"(stage, world, body) {
    const channel = placeOf(stage, world, body.channel)
    if (typeof body.name !== "string" || !/^[a-z0-9_+-]+$/.test(body.name)) throw no("invalid_name")
    if (!world.messages.some((message) => message.channel === channel && message.ts === body.timestamp))
      throw no("message_not_found")
    return {}
  },
  "conversations.info"(_stage, world, body) {
    const channel = world.channels.find((channel) => channel.id === body.channel)
    if (!channel) throw no("channel_not_found")
    return { channel: { id: channel.id, name: channel.name, is_channel: true, is_member: channel.botIn } }
  },
  "conversations.history"(stage, world, body) {
    const channel = placeOf(stage, world, body.channel)
    const found = world.messages.filter(
      (message) => message.channel === channel && Number(message.ts) >= Number(body.oldest ?? 0) && !message.thread_ts,
    )
    return { messages: found.slice(-Number(body.limit ?? 100)).reverse(), has_more: false }
  },
  "conversations.replies"(stage, world, body) {
    const channel = placeOf(stage, world, body.channel)
    return {
      messages: world.messages.filter(
        (message) => message.channel === channel && (message.thread_ts === body.ts || message.ts === body.ts),
      ),
      has_more: false,
    }
  },
  "files.getUploadURLExternal"(stage, world, body, request) {
    if (!body.filename || !(Number(body.length) > 0)) throw no("invalid_arguments")
    const id = `F${stage.number()}`
    world.files.set(id, {
      name: String(body.filename),
      content: Buffer.alloc(0),
      mime: "application/octet-stream",
      completed: false,
    })
    return { upload_url: `http://${request.headers.host}/upload/${id}`, file_id: id }
  },
  "files.completeUploadExternal"(stage, world, body) {
    const channel = placeOf(stage, world, body.channel_id)
    const files = (body.files as { id: string; title?: string }[] | undefined) ?? []
    const found = files.map((file) => world.files.get(file.id))
    if (found.length === 0 || found.some((one) => !one || one.completed || one.content.length === 0))
      throw no("file_not_found")
    found.forEach((one) => (one!.completed = true))
    const words = [body.initial_comment, ...files.map((file) => `(file ${file.title ?? file.id})`)]
      .filter(Boolean)
      .join("\n")
    post(stage, world, channel, { text: words })
    return { files: files.map((file) => ({ id: file.id, title: file.title })) }
  },
  "files.info"(_stage, world, body, request) {
    const file = world.files.get(String(body.file))
    if (!file) throw no("file_not_found")
    return {
      file: {
        id: body.file,
        name: file.name,
        mimetype: file.mime,
        url_private: `http://${request.headers.host}/files/${String(body.file)}`,
      },
    }
  },
}

function servePeople(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const person = (body: Body) => {
    const found = stage.people.get(String(body.from))
    if (!found) throw new Refusal(404, `there is no person ${String(body.from)}`)
    return found
  }
  const openResponse = (channel: string): string => {
    const { port } = app.server.address() as { port: number }
    const id = `r${stage.number()}`
    world.responses.set(id, { channel, left: 5, until: Date.now() + 30 * 60_000 })
    return `http://127.0.0.1:${port}/respond/${id}`
  }
  const roomOf = (body: Body, from: { id: string }) =>
    body.channel === undefined ? directOf(from.id) : String(body.channel)

  act(app, "say", (body) => {
    const from = person(body)
    const channel = roomOf(body, from)
    const ts = nextTs(world)
    const text = String(body.text ?? "")
    const thread = body.thread ? { thread_ts: String(body.thread) } : {}
    let files: Body = {}
    if (body.photo) {
      const id = `F${stage.number()}`
      world.files.set(id, {
        name: `${String(body.photo)}.svg`,
        content: snapshot(String(body.photo)),
        mime: "image/svg+xml",
        completed: true,
      })
      const { port } = app.server.address() as { port: number }
      const file = {
        id,
        name: `${String(body.photo)}.svg`,
        mimetype: "image/svg+xml",
        url_private: `http://127.0.0.1:${port}/files/${id}`,
        size: 900,
      }
      files = { subtype: "file_share", files: [file] }
    }
    world.messages.push({ ts, channel, user: from.id, text, ...thread })
    stage.show(screenOf(stage, channel), { id: ts, mine: true, text: text || "(photo)" })
    const event = { user: from.id, text, ts, event_ts: ts, channel, ...thread, ...files }
    const sort = channel.startsWith("D") ? "im" : "channel"
    tellEvent(stage, world, postman, { type: "message", channel_type: sort, ...event })
    // A mention in a channel is told of a second time.
    if (sort === "channel" && text.includes(`<@${world.bot.user}>`))
      tellEvent(stage, world, postman, { type: "app_mention", ...event })
    return { id: ts }
  })
  act(app, "command", async (body) => {
    const from = person(body)
    const channel = roomOf(body, from)
    const named = world.channels.find((one) => one.id === channel)
    const form = new URLSearchParams({
      token: "old",
      team_id: world.team.id,
      channel_id: channel,
      channel_name: named?.name ?? "directmessage",
      user_id: from.id,
      user_name: from.name.toLowerCase().split(" ")[0]!,
      command: String(body.command),
      text: String(body.text ?? ""),
      api_app_id: "A1",
      response_url: openResponse(channel),
      trigger_id: `${stage.number()}.1`,
    })
    const answer = await postman.ask(signed(world, form.toString(), "application/x-www-form-urlencoded", false))
    if (answer.body) {
      const said = answer.body.startsWith("{") ? (JSON.parse(answer.body) as { text?: string }).text : answer.body
      stage.show(screenOf(stage, channel), { id: nextTs(world), mine: false, text: `(only you) ${said ?? ""}` })
    }
    return { status: answer.status, ms: answer.ms, body: answer.body }
  })
  act(app, "press", async (body) => {
    const from = person(body)
    const channel = roomOf(body, from)
    const wanted = String(body.button)
    for (const shown of [...stage.screen(screenOf(stage, channel))].reverse()) {
      const button = shown.buttons?.find((button) => button.label === wanted)
      if (!button || shown.gone) continue
      const [action_id, value] = [
        button.id.slice(0, button.id.indexOf(" ")),
        button.id.slice(button.id.indexOf(" ") + 1),
      ]
      const text = { type: "plain_text", text: button.label }
      const action =
        action_id === "choice"
          ? { type: "static_select", action_id, selected_option: { text, value } }
          : { type: "button", action_id, text, value }
      const message = world.messages.find((message) => message.ts === shown.id)
      const payload = {
        type: "block_actions",
        user: { id: from.id, username: from.name.toLowerCase(), team_id: world.team.id },
        api_app_id: "A1",
        team: { id: world.team.id },
        channel: { id: channel, name: "here" },
        container: { type: "message", message_ts: shown.id, channel_id: channel, is_ephemeral: false },
        message,
        actions: [{ ...action, block_id: "b", action_ts: nextTs(world) }],
        response_url: openResponse(channel),
        trigger_id: `${stage.number()}.2`,
      }
      const form = `payload=${encodeURIComponent(JSON.stringify(payload))}`
      stage.show(screenOf(stage, channel), { id: nextTs(world), mine: true, text: `[${wanted}]` })
      const answer = await postman.ask(signed(world, form, "application/x-www-form-urlencoded", false))
      return { status: answer.status, ms: answer.ms }
    }
    throw new Refusal(404, `there is no button "${wanted}" here`)
  })
  act(app, "react", (body) => {
    const from = person(body)
    const item = { type: "message", channel: roomOf(body, from), ts: body.message }
    tellEvent(stage, world, postman, {
      type: "reaction_added",
      user: from.id,
      reaction: body.name,
      item,
      event_ts: nextTs(world),
    })
  })
  act(app, "tell", (body) => tellEvent(stage, world, postman, body.event as Body))
  act(app, "verify-address", async () => {
    const challenge = `c${stage.number()}`
    const body = JSON.stringify({ token: "old", challenge, type: "url_verification" })
    const answer = await postman.ask(signed(world, body, "application/json", false))
    return { accepted: answer.status === 200 && answer.body.includes(challenge), status: answer.status }
  })
  act(app, "revoke", () => void (world.token = `xoxb-renewed-${stage.number()}`))
}
