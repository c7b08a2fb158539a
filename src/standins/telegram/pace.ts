import { Refusal } from "./methods.ts"
import type { Bot, World } from "./world.ts"

/** What the provider puts up with: about one message a second in a chat, 20 a minute in a group, 30 a second in all. */
export class Pace {
  private readonly sent = new Map<string, number[]>()

  check(world: World, bot: Bot, method: string, body: { [field: string]: unknown }): void {
    if (!method.startsWith("send") || method === "sendChatAction") return
    const chat = world.chats.get(Number(body.chat_id))
    const now = Date.now()
    this.count(`${bot.id}`, now, 30, 1)
    // "About" one a second: a short burst is let through, a stream is not.
    this.count(`${bot.id} ${String(body.chat_id)} burst`, now, 5, 4)
    if (chat && chat.type !== "private") this.count(`${bot.id} ${String(body.chat_id)} group`, now, 20, 60)
  }

  private count(key: string, now: number, most: number, seconds: number): void {
    const times = (this.sent.get(key) ?? []).filter((at) => at > now - seconds * 1000)
    if (times.length >= most) {
      const after = Math.max(1, Math.ceil((times[0]! + seconds * 1000 - now) / 1000))
      throw new Refusal(429, `Too Many Requests: retry after ${after}`, { retry_after: after })
    }
    this.sent.set(key, [...times, now])
    if (this.sent.size > 50_000) this.sent.clear()
  }
}
