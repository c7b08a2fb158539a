import { LRUCache } from "lru-cache"
import type { Logger } from "pino"
import type { Application, NoticeEvent } from "../../core/notice/notice.ts"
import { cloudEventSchema, eventType, valueIn } from "../../core/notice/notice.ts"
import { isNestedDeeper } from "../../core/message/json.ts"
import { storableJson } from "../../core/message/graphemes.ts"
import { saysWord, webhookFault } from "../../core/signature/webhookCheck.ts"
import type { Database } from "../../store/database.ts"
import { applicationOf } from "../../store/releases.ts"
import { HandlerFault } from "../handlers/handler.ts"
import type { NamedSecrets } from "../handlers/namedSecrets.ts"
import { Trouble } from "../trouble.ts"
import type { Notices } from "./notices.ts"

/** Bytes of what an application posts. */
export const longestEvent = 256 * 1024
const deepest = 60
/** Milliseconds for which it is remembered what an application is, and for which refused calls of one are not told again. */
const atHand = 2000
const tellEvery = 60_000

/** What is answered to an application. */
export interface ApplicationAnswer {
  status: number
  body: object
}

/** The inlets of applications: each posts its own JSON, signed or with a word, and that is a notice. */
export class Applications {
  private readonly known = new LRUCache<string, { application: Application | undefined }>({ max: 1000, ttl: atHand })
  /** Of which it was told lately that calls are refused. */
  private readonly told = new LRUCache<string, true>({ max: 1000, ttl: tellEvery })

  constructor(private readonly parts: { database: Database; secrets: NamedSecrets; notices: Notices; log: Logger }) {}

  /** @param headers names in lower case */
  async receive(
    bot: string,
    name: string,
    headers: { [name: string]: string | undefined },
    body: string,
    now: Date,
  ): Promise<ApplicationAnswer> {
    const application = isName(bot) && isName(name) ? await this.application(bot, name) : undefined
    if (!application) return notGenuine
    const { [application.secret]: key } = await this.parts.secrets
      .listed(bot, "live", [application.secret])
      .catch((error: unknown) => {
        if (error instanceof HandlerFault) return {} as { [name: string]: string }
        throw error
      })
    if (key === undefined) {
      this.tell(`${bot}/${name}`, `its secret ${application.secret} is not set`)
      return { status: 503, body: {} }
    }
    const [, word] = /^Bearer (.+)$/i.exec(headers.authorization ?? "") ?? []
    const fault =
      word !== undefined
        ? saysWord(word, key)
          ? undefined
          : "its word is not the one agreed on"
        : webhookFault(headers, body, key, now)
    if (fault !== undefined) {
      this.tell(`${bot}/${name}`, fault)
      return notGenuine
    }
    if (isNestedDeeper(body, deepest)) return no(400, `The JSON is nested more than ${deepest} deep.`)
    let given: unknown
    try {
      given = storableJson(JSON.parse(body) as object)
    } catch {
      return no(400, "The body is no JSON.")
    }
    const event = eventOf(given, application, headers["webhook-id"])
    if ("fault" in event) return no(400, event.fault)
    try {
      const kept = await this.parts.notices.take(event, `application ${name}`, { bot })
      return { status: 202, body: { notices: kept.map(({ id }) => id) } }
    } catch (error) {
      if (error instanceof Trouble)
        return no(error.code === "key-reused" ? 409 : 400, `${error.message} ${error.remedy}`)
      throw error
    }
  }

  /** Strangers may ask as often as they like: the record is asked now and then. */
  private async application(bot: string, name: string): Promise<Application | undefined> {
    const key = `${bot}/${name}`
    let known = this.known.get(key)
    if (!known) this.known.set(key, (known = { application: await applicationOf(this.parts.database, bot, name) }))
    return known.application
  }

  /** Refused calls are in the log, though not each of them. */
  private tell(which: string, fault: string): void {
    if (this.told.get(which)) return
    this.told.set(which, true)
    this.parts.log.warn(`a call to /in/${which} was refused: ${fault}. More of them are not told for a minute`)
  }
}

/** What an application's JSON tells: a CloudEvent, or what stands at the places that the bot names. */
function eventOf(
  given: unknown,
  { type, id, data }: { type: string; id?: string; data?: string },
  webhookId: string | undefined,
): NoticeEvent | { fault: string } {
  const cloud = cloudEventSchema.validate(given) as { error?: Error; value: CloudEvent }
  if (!cloud.error) return fromCloudEvent(cloud.value)
  const found = eventType.validate(valueIn(given, type)) as { error?: Error; value?: string }
  if (found.error || found.value === undefined) return { fault: `No type of an event stands at "${type}".` }
  const about = data === undefined ? given : valueIn(given, data)
  if (typeof about !== "object" || about === null || Array.isArray(about))
    return { fault: data === undefined ? "The body is no JSON object." : `No object stands at "${data}".` }
  const key = id === undefined ? webhookId : valueIn(given, id)
  return {
    type: found.value,
    data: about as NoticeEvent["data"],
    ...(typeof key === "string" || typeof key === "number" ? { key: String(key) } : {}),
  }
}

interface CloudEvent {
  id: string
  source: string
  type: string
  data: { [field: string]: unknown }
}

/** A CloudEvent's source and id together tell it apart from every other. */
export function fromCloudEvent({ id, source, type, data }: CloudEvent): NoticeEvent {
  return { type, source, key: `${source} ${id}`, data }
}

/** Said of a wrong word and of an application that is not there alike. */
const notGenuine: ApplicationAnswer = { status: 401, body: {} }

/** What a bot or an application may be called; anything else is nobody's. */
const isName = (given: string) => /^[\w.-]{1,100}$/.test(given)

function no(status: number, says: string): ApplicationAnswer {
  return { status, body: { error: says } }
}
