import { Refusal } from "./methods.ts"
import type { Bot, World } from "./world.ts"

type Body = { [field: string]: unknown }

/** What the provider puts up with: about one message a second in a chat, 20 a minute in a group, 30 a second in all. */
export class Pace {
  private readonly sent = new Map<string, number[]>()

  /** Refuses what would be too much. */
  check(world: World, bot: Bot, method: string, body: Body): void {
    const now = Date.now()
    for (const { key, most, seconds } of limitsOf(world, bot, method, body)) {
      const times = (this.sent.get(key) ?? []).filter((at) => at > now - seconds * 1000)
      if (times.length < most) continue
      const after = Math.max(1, Math.ceil((times[0]! + seconds * 1000 - now) / 1000))
      throw new Refusal(429, `Too Many Requests: retry after ${after}`, { retry_after: after })
    }
  }

  /** Counts what was taken. */
  count(world: World, bot: Bot, method: string, body: Body): void {
    for (const { key, most } of limitsOf(world, bot, method, body)) {
      this.sent.set(key, [...(this.sent.get(key) ?? []).slice(-most), Date.now()])
    }
    if (this.sent.size > 50_000) this.sent.clear()
  }
}

function limitsOf(
  world: World,
  bot: Bot,
  method: string,
  body: Body,
): { key: string; most: number; seconds: number }[] {
  if (!method.startsWith("send") || method === "sendChatAction") return []
  const chat = world.chats.get(Number(body.chat_id))
  const key = `${bot.id} ${String(body.chat_id)}`
  return [
    { key: `${bot.id}`, most: 30, seconds: 1 },
    // "About" one a second: a short burst is let through, a stream is not.
    { key: `${key} burst`, most: 5, seconds: 4 },
    ...(chat && chat.type !== "private" ? [{ key: `${key} group`, most: 20, seconds: 60 }] : []),
  ]
}
