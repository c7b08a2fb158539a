import { randomBytes } from "node:crypto"
import type { Shown, Stage as StandinStage } from "../../src/standins/shared/standin.ts"
import type { Face } from "../../src/standins/sms/server.ts"
import type { Service } from "./harness.ts"
import { atEnd, eventually, inside } from "./harness.ts"

/** One kind of channel, connected to its stand-in, with a person to play. */
export interface KindStage {
  kind: string
  key: string
  standin: { address: string; stage: StandinStage; stop: () => Promise<void> }
  /** The person's id at the provider. */
  person: string
  /** What the person sees of the bot, in order. */
  seen: () => Shown[]
  does: (what: string, body?: object) => Promise<{ [field: string]: unknown }>
  says: (text: string) => Promise<unknown>
  presses: (label: string) => Promise<unknown>
  /** Waits until the bot has said so much. */
  answered: (count: number) => Promise<Shown[]>
  messages: (query?: object) => ReturnType<Service["client"]["messages"]>
  stop: () => Promise<void>
}

const word = () => randomBytes(6).toString("hex")
let nextNumber = 0
/** Numbers from a range reserved for fiction. */
const fictionNumber = () => `447700900${String(++nextNumber).padStart(3, "0")}`

const sets: {
  [kind: string]: (service: Service, key: string, settings: object) => Promise<Omit<KindStage, keyof Common>>
} = {
  async whatsapp(service, key, settings) {
    const person = fictionNumber()
    const scene = {
      account: "1001",
      number: { id: String(2000 + nextNumber), display: "447700900999", name: "Tern Point Ferry" },
      token: word(),
      appSecret: word(),
      people: [{ id: person, name: "Inês" }],
    }
    const standin = await (await inside()).startWhatsApp(scene)
    await service.client.addChannel({
      kind: "whatsapp",
      key,
      settings: {
        apiBase: standin.address,
        phoneNumberId: scene.number.id,
        businessAccountId: scene.account,
        ...settings,
      },
      secrets: { accessToken: scene.token, appSecret: scene.appSecret },
    })
    return { standin, person }
  },
  async messenger(service, key, settings) {
    const person = String(7_000_000 + ++nextNumber)
    const scene = {
      page: { id: String(3000 + nextNumber), name: "Tern Point Ferry" },
      token: word(),
      appSecret: word(),
      people: [{ id: person, name: "Inês Carvalho" }],
    }
    const standin = await (await inside()).startMessenger(scene)
    const verifyToken = word()
    await service.client.addChannel({
      kind: "messenger",
      key,
      settings: { apiBase: standin.address, pageId: scene.page.id, ...settings },
      secrets: { pageToken: scene.token, appSecret: scene.appSecret, verifyToken },
    })
    // Where calls go is set in the provider's own pages.
    await fetch(`${standin.address}/standin/hook`, {
      method: "POST",
      body: JSON.stringify({ url: `${service.address}/in/${key}`, verifyToken }),
    })
    return { standin, person }
  },
  async slack(service, key, settings) {
    const person = `U${word().toUpperCase()}`
    const scene = {
      team: { id: "T1", name: "Tern Point" },
      bot: { id: "B1", user: "UBOT", name: "ferry" },
      token: `xoxb-${word()}`,
      signingSecret: word(),
      hook: `${service.address}/in/${key}`,
      scopes: ["chat:write", "im:history", "users:read", "files:read"],
      people: [{ id: person, name: "Inês Carvalho" }],
      channels: [
        { id: "C1", name: "quay-desk", botIn: true },
        { id: "C2", name: "elsewhere", botIn: false },
      ],
    }
    const standin = await (await inside()).startSlack(scene)
    await service.client.addChannel({
      kind: "slack",
      key,
      settings: { apiBase: standin.address, ...settings },
      secrets: { botToken: scene.token, signingSecret: scene.signingSecret },
    })
    return { standin, person }
  },
  sms: (service, key, settings) => gateway("form", service, key, settings),
}

const faces = {
  form: { profile: "form-gateway", settings: { accountId: "AC1" }, secrets: (key: string) => ({ authToken: key }) },
  json: {
    profile: "plain-json",
    settings: {},
    secrets: (key: string, secret: string) => ({ apiKey: key, signingSecret: secret }),
  },
  oma: {
    profile: "oma-messaging",
    settings: { user: "AC1" },
    secrets: (key: string, secret: string) => ({ password: key, inboundPassword: secret }),
  },
}

async function gateway(face: Face, service: Service, key: string, settings: object) {
  const person = `+${fictionNumber()}`
  const token = word()
  const secret = word()
  const scene = {
    face,
    number: "+447700900999",
    account: "AC1",
    key: token,
    secret,
    hook: `${service.address}/in/${key}`,
    people: [{ id: person, name: "Inês" }],
  }
  const standin = await (await inside()).startSms(scene)
  await service.client.addChannel({
    kind: "sms",
    key,
    settings: {
      apiBase: standin.address,
      number: scene.number,
      publicUrl: service.address,
      profile: faces[face].profile,
      ...faces[face].settings,
      ...settings,
    },
    secrets: faces[face].secrets(token, secret),
  })
  return { standin, person }
}

type Common = Omit<KindStage, "standin" | "person">

export async function setKind(service: Service, kind: string, settings: object = {}): Promise<KindStage> {
  const key = `${kind.replaceAll(" ", "-")}-${word()}`
  const { standin, person } = await sets[kind]!(service, key, { gather: 0, ...settings })
  atEnd(() => standin.stop())
  await service.client.connectChannel(key)
  const does: KindStage["does"] = async (what, body = {}) => {
    const answer = await fetch(`${standin.address}/standin/${what}`, {
      method: "POST",
      body: JSON.stringify({ from: person, ...body }),
    })
    if (!answer.ok) throw new Error(`the stand-in answered ${answer.status}: ${await answer.text()}`)
    return (await answer.json()) as { [field: string]: unknown }
  }
  const seen = () => standin.stage.screen(person).filter((one) => !one.mine && !one.gone)
  return {
    kind,
    key,
    standin,
    person,
    seen,
    does,
    says: (text) => does("say", { text }),
    presses: (button) => does("press", { button }),
    answered: (count) =>
      eventually(async () => (seen().length >= count ? seen() : undefined), `${count} answers on ${kind}`),
    messages: (query = {}) => service.client.messages({ channel: key, ...query }),
    stop: () => standin.stop(),
  }
}

export const kindsWithStandins = Object.keys(sets)

/** The gateways SMS comes through, beside the one above. */
sets["sms by plain-json"] = (service, key, settings) => gateway("json", service, key, settings)
sets["sms by oma-messaging"] = (service, key, settings) => gateway("oma", service, key, settings)
