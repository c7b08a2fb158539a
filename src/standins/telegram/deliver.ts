import type { Bot, Update, World } from "./world.ts"

/** Which updates a bot gets that asked for none in particular. */
const unasked = new Set(["chat_member", "message_reaction", "message_reaction_count"])

/** Brings updates to a bot: to its webhook, again and again until it answers 2xx, or into its hands when it polls. */
export class Delivery {
  private readonly running = new Set<string>()
  private stopped = false
  /** Every call made to a webhook, for tests that keep their own books. */
  readonly posts: { bot: string; update: number; status: number; ms: number }[] = []

  constructor(private readonly world: World) {}

  push(bot: Bot, event: string, content: object): Update | undefined {
    const allowed = bot.webhook?.allowed
    if (allowed && allowed.length > 0 ? !allowed.includes(event) : unasked.has(event)) return undefined
    const update: Update = { update_id: bot.nextUpdateId++, [event]: content }
    bot.updates.push(update)
    this.wake(bot)
    return update
  }

  wake(bot: Bot): void {
    bot.polls?.answer()
    if (bot.webhook && !this.running.has(bot.username)) void this.run(bot)
  }

  stop(): void {
    this.stopped = true
  }

  private async run(bot: Bot): Promise<void> {
    this.running.add(bot.username)
    let failures = 0
    try {
      while (!this.stopped && bot.webhook && bot.updates.length > 0) {
        const batch = this.next(bot)
        const done = await Promise.all(batch.map((update) => this.post(bot, update)))
        const taken = new Set(batch.filter((_update, at) => done[at]).map((update) => update.update_id))
        bot.updates = bot.updates.filter((update) => !taken.has(update.update_id))
        failures = done.every(Boolean) ? 0 : failures + 1
        if (failures > 0)
          await new Promise((resolve) => setTimeout(resolve, Math.min(250 * 2 ** failures, 1000)).unref())
      }
    } finally {
      this.running.delete(bot.username)
    }
  }

  /** Different chats at once, one chat in order, unless disorder was asked for. */
  private next(bot: Bot): Update[] {
    if (this.world.reorder > 0 && bot.updates.length > 1) {
      this.world.reorder--
      return [bot.updates.at(-1)!]
    }
    const chats = new Set<unknown>()
    const batch: Update[] = []
    for (const update of bot.updates) {
      const chat = chatIn(update)
      if (chats.has(chat)) continue
      chats.add(chat)
      batch.push(update)
      if (batch.length >= (bot.webhook?.connections ?? 1)) break
    }
    return batch
  }

  private async post(bot: Bot, update: Update): Promise<boolean> {
    const hook = bot.webhook
    if (!hook) return false
    const copies = this.world.duplicates > 0 ? 2 : 1
    if (copies > 1) this.world.duplicates--
    let ok = false
    for (let copy = 0; copy < copies; copy++) ok = (await this.once(bot, hook, update)) || ok
    return ok
  }

  private async once(bot: Bot, hook: NonNullable<Bot["webhook"]>, update: Update): Promise<boolean> {
    const begun = Date.now()
    const fail = (says: string) => {
      hook.lastError = { at: Math.floor(Date.now() / 1000), says }
      return false
    }
    try {
      const answer = await fetch(hook.url, {
        method: "POST",
        headers: {
          "content-type": "application/json",
          ...(hook.secret ? { "x-telegram-bot-api-secret-token": hook.secret } : {}),
        },
        body: JSON.stringify(update),
        signal: AbortSignal.timeout(30_000),
      })
      await answer.arrayBuffer()
      this.posts.push({ bot: bot.username, update: update.update_id, status: answer.status, ms: Date.now() - begun })
      if (this.posts.length > 50_000) this.posts.splice(0, 25_000)
      return answer.ok || fail(`Wrong response from the webhook: ${answer.status} ${answer.statusText}`)
    } catch {
      return fail("Connection refused")
    }
  }
}

function chatIn(update: Update): unknown {
  for (const value of Object.values(update)) {
    const inner = value as { chat?: { id?: unknown }; message?: { chat?: { id?: unknown } } }
    if (inner?.chat) return inner.chat.id
    if (inner?.message?.chat) return inner.message.chat.id
  }
  return update.update_id
}
