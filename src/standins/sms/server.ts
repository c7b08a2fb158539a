import { createHmac } from "node:crypto"
import type { FastifyInstance, FastifyRequest } from "fastify"
import type { Body, Post, Shown, Played, Postman, Stage } from "../shared/standin.ts"
import { act, jsonOf, playStandin, Refusal, snapshot, withFault } from "../shared/standin.ts"

/** A made-up SMS gateway with three ways of speaking, and the telephones it reaches. */
export type SmsStandin = Played<World>

export type Face = "form" | "json" | "oma"

export interface SmsScene {
  face: Face
  /** Our own number, in E.164. */
  number: string
  account: string
  /** Token, key or password for sending; the form face signs with it too. */
  key: string
  /** What the JSON face signs with, and the OMA face authorises itself with. */
  secret: string
  /** Where calls go. */
  hook: string
  people: { id: string; name: string }[]
}

export interface World extends Omit<SmsScene, "people"> {
  reports: Map<string, string>
  media: Map<string, Buffer>
  correlators: Map<string, string>
  /** Milliseconds until a text is told to have arrived. */
  delivered: number
  /** Whether it tells at all what became of a text. */
  reporting: boolean
}

export async function startSms(scene: SmsScene, options: { port?: number } = {}): Promise<SmsStandin> {
  const { people, ...rest } = scene
  const world: World = {
    ...rest,
    reports: new Map(),
    media: new Map(),
    correlators: new Map(),
    delivered: 250,
    reporting: true,
  }
  return playStandin("A phone at the SMS stand-in", people, world, options.port, (app, stage, postman) => {
    serveForm(app, stage, world, postman)
    serveJson(app, stage, world, postman)
    serveOma(app, stage, world, postman)
    servePeople(app, stage, world, postman)
  })
}

function bodyOf(request: FastifyRequest): URLSearchParams {
  return new URLSearchParams((request.body as Buffer | undefined)?.toString("utf8") ?? "")
}

function authorized(request: FastifyRequest, expected: string, refusal: Refusal): void {
  if (request.headers.authorization !== expected) throw refusal
}

const basic = (user: string, password: string) => `Basic ${Buffer.from(`${user}:${password}`).toString("base64")}`

/** What every face checks: that somebody is there, and that the text is neither empty nor too long. */
export function deliver(
  stage: Stage,
  world: World,
  sms: { to: string; from: string; text: string; picture?: string },
  refuse: (status: number, code: number, message: string) => Refusal,
): Shown {
  if (sms.from.replace(/\D/g, "") !== world.number.replace(/\D/g, ""))
    throw refuse(400, 21606, `The 'From' number ${sms.from} is not one of this account's`)
  if (!/^\+[1-9]\d{6,14}$/.test(sms.to) || !stage.people.has(sms.to))
    throw refuse(400, 21211, `The 'To' number ${sms.to} is not a valid phone number`)
  if (sms.text.trim() === "" && !sms.picture) throw refuse(400, 21602, "Message body is required")
  if (sms.text.length > 1600) throw refuse(400, 21617, "The concatenated message body exceeds the 1600 character limit")
  if (!sms.text.isWellFormed()) throw refuse(400, 21619, "The message body holds half a character")
  return stage.show(sms.to, {
    id: `SM${stage.number().toString(16).padStart(32, "0")}`,
    mine: false,
    text: sms.text,
    ...(sms.picture ? { picture: sms.picture } : {}),
    status: "queued",
  })
}

function report(world: World, shown: Shown, tell: (word: string) => void): void {
  if (!world.reporting) return
  const steps: [number, string][] = [
    [40, "sent"],
    [world.delivered, "delivered"],
  ]
  for (const [after, word] of steps) {
    setTimeout(() => {
      shown.status = word
      tell(word)
    }, after).unref()
  }
}

function signedForm(world: World, url: string, fields: [string, string][]): Post {
  const sorted = [...fields].sort(([a], [b]) => (a < b ? -1 : 1))
  const over = url + sorted.map(([name, value]) => name + value).join("")
  return {
    url,
    headers: {
      "content-type": "application/x-www-form-urlencoded; charset=utf-8",
      "x-gateway-signature": createHmac("sha1", world.key).update(over).digest("base64"),
    },
    body: new URLSearchParams(fields).toString(),
    repeats: false,
  }
}

function serveForm(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const refuse = (status: number, code: number, message: string) =>
    new Refusal(status, message, { code, message, more_info: "", status })
  const denied = refuse(401, 20003, "Authenticate")

  app.get<{ Params: { account: string } }>("/Accounts/:account", async (request) => {
    authorized(request, basic(world.account, world.key), denied)
    return { sid: world.account, friendly_name: "Tern Point Ferry", status: "active" }
  })

  app.post<{ Params: { account: string } }>("/Accounts/:account/Messages.json", async (request, reply) => {
    const fields = bodyOf(request)
    const record = Object.fromEntries(fields)
    try {
      authorized(request, basic(world.account, world.key), denied)
      if (request.params.account !== world.account) throw refuse(404, 20404, "The requested resource was not found")
      return await withFault(stage, reply, faultOf(refuse), () => {
        const picture = fields.get("MediaUrl")
        const shown = deliver(
          stage,
          world,
          {
            to: fields.get("To") ?? "",
            from: fields.get("From") ?? "",
            text: fields.get("Body") ?? "",
            ...(picture ? { picture } : {}),
          },
          refuse,
        )
        stage.record("message", record, 201, true)
        const callback = fields.get("StatusCallback")
        if (callback)
          report(world, shown, (word) =>
            postman.bring(
              signedForm(world, callback, [
                ["MessageSid", shown.id],
                ["MessageStatus", word],
                ["AccountSid", world.account],
                ["From", world.number],
                ["To", fields.get("To")!],
              ]),
            ),
          )
        void reply.code(201)
        return { sid: shown.id, status: "queued", error_code: null, error_message: null }
      })
    } catch (error) {
      if (error instanceof Refusal) stage.record("message", record, error.status, false)
      throw error
    }
  })
}

function faultOf(refuse: (status: number, code: number, message: string) => Refusal) {
  return (fault: "429" | "500", seconds: number): Refusal => {
    const made = fault === "429" ? refuse(429, 20429, "Too Many Requests") : refuse(500, 20500, "Internal Server Error")
    return new Refusal(
      made.status,
      made.message,
      made.answer,
      fault === "429" ? { "retry-after": String(seconds) } : {},
    )
  }
}

function signedJson(world: World, value: Body): Post {
  const body = JSON.stringify(value)
  return {
    url: world.hook,
    headers: {
      "content-type": "application/json",
      "x-signature": createHmac("sha256", world.secret).update(body).digest("hex"),
    },
    body,
    repeats: false,
  }
}

function serveJson(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const refuse = (status: number, code: number, message: string) => new Refusal(status, message, { code, message })
  app.post("/messages", async (request, reply) => {
    const body = jsonOf(request)
    try {
      authorized(request, `Bearer ${world.key}`, refuse(401, 1, "the key is not known"))
      return await withFault(stage, reply, faultOf(refuse), () => {
        const shown = deliver(
          stage,
          world,
          { to: String(body.to), from: String(body.from), text: String(body.text) },
          refuse,
        )
        stage.record("message", body, 200, true)
        report(world, shown, (word) => postman.bring(signedJson(world, { id: shown.id, status: word, to: body.to })))
        return { id: shown.id, status: "accepted" }
      })
    } catch (error) {
      if (error instanceof Refusal) stage.record("message", body, error.status, false)
      throw error
    }
  })
}

function omaPost(world: World, value: Body): Post {
  return {
    url: world.hook,
    headers: { "content-type": "application/json", authorization: basic(world.account, world.secret) },
    body: JSON.stringify(value),
    repeats: false,
  }
}

function serveOma(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const refuse = (status: number, code: number, message: string) =>
    new Refusal(status, message, {
      requestError: { serviceException: { messageId: `SVC${code}`, text: message, variables: [] } },
    })
  app.post<{ Params: { sender: string } }>("/smsmessaging/v1/outbound/:sender/requests", async (request, reply) => {
    const body = jsonOf(request)
    try {
      authorized(request, basic(world.account, world.key), refuse(401, 1, "not authorised"))
      return await withFault(stage, reply, faultOf(refuse), () => {
        const sent = body.outboundSMSMessageRequest as Body | undefined
        const [to] = (sent?.address as string[] | undefined) ?? []
        if (!sent || !to?.startsWith("tel:") || sent.senderAddress !== request.params.sender)
          throw refuse(400, 2, "Invalid input value for message part address")
        const mark = sent.clientCorrelator as string | undefined
        const before = mark === undefined ? undefined : world.correlators.get(mark)
        const address = (id: string) => `http://${request.headers.host}/smsmessaging/v1/outbound/${id}`
        if (before !== undefined) return { resourceReference: { resourceURL: address(before) } }
        const text = String((sent.outboundSMSTextMessage as Body | undefined)?.message ?? "")
        const shown = deliver(stage, world, { to: to.slice(4), from: world.number, text }, refuse)
        if (mark !== undefined) world.correlators.set(mark, shown.id)
        stage.record("message", body, 201, true)
        const receipt = sent.receiptRequest as { callbackData?: string } | undefined
        const words: { [word: string]: string } = { sent: "DeliveredToNetwork", delivered: "DeliveredToTerminal" }
        if (receipt)
          report(world, shown, (word) =>
            postman.bring(
              omaPost(world, {
                deliveryInfoNotification: {
                  callbackData: receipt.callbackData,
                  link: [{ rel: "OutboundSMSMessageRequest", href: address(shown.id) }],
                  deliveryInfo: { address: to, deliveryStatus: words[word] },
                },
              }),
            ),
          )
        void reply.code(201)
        return { resourceReference: { resourceURL: address(shown.id) } }
      })
    } catch (error) {
      if (error instanceof Refusal) stage.record("message", body, error.status, false)
      throw error
    }
  })
}

/** A text from a telephone, as the gateway brings it. */
function inbound(world: World, id: string, from: string, text: string, more: [string, string][]): Post {
  if (world.face === "json") return signedJson(world, { id, from, text, time: new Date().toISOString() })
  if (world.face === "oma") {
    return omaPost(world, {
      inboundSMSMessageNotification: {
        inboundSMSMessage: {
          messageId: id,
          senderAddress: `tel:${from}`,
          destinationAddress: `tel:${world.number}`,
          message: text,
          dateTime: new Date().toISOString(),
        },
      },
    })
  }
  return signedForm(world, world.hook, [
    ["MessageSid", id],
    ["SmsStatus", "received"],
    ["AccountSid", world.account],
    ["From", from],
    ["To", world.number],
    ["Body", text],
    ...(more.length > 0 ? more : [["NumMedia", "0"] as [string, string]]),
  ])
}

function servePeople(app: FastifyInstance, stage: Stage, world: World, postman: Postman): void {
  const say = (from: string, text: string, more: [string, string][] = []) => {
    if (!stage.people.has(from)) throw new Refusal(404, `there is no person ${from}`)
    const id = `SM${stage.number().toString(16).padStart(32, "0")}`
    stage.show(from, { id, mine: true, text })
    postman.bring(inbound(world, id, from, text, more))
    return { id }
  }
  app.get<{ Params: { id: string } }>("/media/:id", async (request, reply) => {
    const found = world.media.get(request.params.id)
    if (!found) throw new Refusal(404, "gone")
    return reply.type("image/svg+xml").send(found)
  })
  act(app, "say", (body) => {
    if (!body.photo) return say(String(body.from), String(body.text))
    const id = String(stage.number())
    world.media.set(id, snapshot(String(body.photo)))
    const { port } = app.server.address() as { port: number }
    return say(String(body.from), String(body.text ?? ""), [
      ["NumMedia", "1"],
      ["MediaUrl0", `http://127.0.0.1:${port}/media/${id}`],
      ["MediaContentType0", "image/svg+xml"],
    ])
  })
  // Nothing can be pressed on such a telephone: people type the number that stands before the words.
  act(app, "press", (body) => {
    const wanted = String(body.button).toLowerCase()
    for (const shown of stage
      .screen(String(body.from))
      .filter((one) => !one.mine)
      .reverse()) {
      const line = shown.text
        .split("\n")
        .find((one) => /^\d+\. /.test(one) && one.replace(/^\d+\. /, "").toLowerCase() === wanted)
      if (line) return say(String(body.from), line.split(".")[0]!)
    }
    throw new Refusal(404, `there is no option "${wanted}" on the screen`)
  })
  act(app, "late-status", (body) => {
    const last = stage.screen(String(body.from)).findLast((one) => !one.mine)
    if (!last) throw new Refusal(404, "nothing was said yet")
    postman.bring(
      world.face === "form"
        ? signedForm(world, world.hook, [
            ["MessageSid", last.id],
            ["MessageStatus", "sent"],
            ["From", world.number],
          ])
        : signedJson(world, { id: last.id, status: "sent" }),
    )
  })
}
