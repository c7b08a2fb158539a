import { pause } from "./harness.ts"
import type { Service, Stage } from "./harness.ts"

let nextUpdate = 40_000_000

/** An update as the provider would bring it; the same one again is the same event. */
export function update(chat: number, text: string, more: object = {}) {
  const id = nextUpdate++
  return {
    update_id: id,
    message: {
      message_id: id,
      date: Math.floor(Date.now() / 1000),
      chat: { id: chat, type: "private", first_name: "Ines" },
      from: { id: chat, is_bot: false, first_name: "Ines" },
      text,
      ...more,
    },
  }
}

/** Brings a call to an inlet; gives the status, 0 where nobody answered. */
export async function bring(service: Service, key: string, secret: string, body: object | string): Promise<number> {
  try {
    const answer = await fetch(`${service.address}/in/${key}`, {
      method: "POST",
      headers: { "content-type": "application/json", "x-telegram-bot-api-secret-token": secret },
      body: typeof body === "string" ? body : JSON.stringify(body),
      signal: AbortSignal.timeout(30_000),
    })
    await answer.arrayBuffer()
    return answer.status
  } catch {
    return 0
  }
}

/** Brings a call until it is acknowledged, to one of the services given, as a provider does that repeats. */
export async function insist(services: Service[], key: string, secret: string, body: object): Promise<void> {
  for (let at = 0; ; at++) {
    const status = await bring(services[at % services.length]!, key, secret, body)
    if (status >= 200 && status < 300) return
    if (at > 200) throw new Error(`never acknowledged; the last answer was ${status}`)
    await pause(150)
  }
}

export const hookSecret = "agreed-word-of-the-test"

/** People known to the stand-in who write to a stage's bot, so that it may answer them. */
export async function crowd(stage: Stage, size: number): Promise<number[]> {
  const people: number[] = []
  for (let n = 0; n < size; n++) {
    const person = await stage.standin.post<{ id: number }>("people", { first_name: `P${n}` })
    await stage.standin.post("start", { bot: stage.bot.username, from: person.id })
    people.push(person.id)
  }
  return people
}
