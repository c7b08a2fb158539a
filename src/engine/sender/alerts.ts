import type { Logger } from "pino"
import { request } from "undici"
import type { Alarm, Channel } from "../../core/channels/kind.ts"
import { lacksReceiver, noReceiver } from "../../core/gateway/receiver.ts"
import { hasProfile, profileOf } from "../../core/gateway/shipped.ts"
import { escapeMarkup } from "../../core/message/markup.ts"
import { conversationAt, conversationById } from "../../store/conversations.ts"
import type { Database } from "../../store/database.ts"
import { resumeChannel, stopChannel } from "../../store/channels.ts"
import { addToLine } from "../../store/outbox.ts"
import type { Bell } from "../../store/bell.ts"
import type { Channels, KnownChannel } from "../channels.ts"
import { addressOn } from "../channels.ts"
import { renderPart } from "../replies/renderPart.ts"
import { wallClock } from "../process/wallClock.ts"

/**
 * Tells a person that a channel needs them: in the conversation, or at the address, that its setting `alertTo` names.
 * A conversation is `cnv_…` or `<channel key>:<place's address>`; an address is http or https and gets a CloudEvent.
 */
export class Alerts {
  constructor(private readonly parts: { database: Database; channels: Channels; bell: Bell; log: Logger }) {}

  async raise(about: KnownChannel, text: string): Promise<void> {
    const { log } = this.parts
    log.warn({ channel: about.row.key }, text)
    const to = about.row.settings.alertTo as string | undefined
    if (!to) return
    try {
      if (/^https?:/.test(to)) await this.post(to, about, text)
      else await this.say(to, text)
    } catch (error) {
      log.error({ err: error, channel: about.row.key }, `the alert could not be delivered to ${to}`)
    }
  }

  /** Stops a channel for what an alarm says. */
  async alarmed(key: string, { says, remedy, forState }: Alarm): Promise<void> {
    await this.lockOut(key, { why: says, remedy, forState })
  }

  /** Stops a channel whose keys no longer work, and tells a person, once. What waits stays. */
  async lockOut(key: string, stop: { why: string; remedy: string; forState?: true | undefined }): Promise<void> {
    const { database, channels, bell } = this.parts
    const { why, remedy, forState = false } = stop
    const first = await stopChannel(database, key, { state: "locked out", reason: why, remedy, forState })
    await channels.refresh()
    bell.ring("channels")
    bell.ring("live")
    const known = channels.get(key)
    if (first && known)
      await this.raise(
        known,
        `The channel ${key} is locked out: ${why}. ${remedy} Nothing is sent meanwhile; what waits stays.`,
      )
  }

  /**
   * Stops channels whose profile does not say whom a message is for, as it could be written up to 0.15.0: what waits stays
   * until the profile is corrected, or says itself that no receiver is needed.
   */
  async holdUnaddressed(): Promise<void> {
    for (const { row, channel } of this.parts.channels.on())
      if (isUnaddressed(channel))
        await this.lockOut(row.key, {
          why: noReceiver.says,
          remedy: unaddressedRemedy(String(row.settings.profile), row.key),
        })
  }

  /** The account is well again: a channel that its state had locked out resumes, and who was told of that is told this. */
  async recovered(key: string, says: string): Promise<void> {
    const { database, channels, bell } = this.parts
    const known = channels.get(key)
    if (known?.row.state !== "locked out" || !known.row.for_state) return
    if (!(await resumeChannel(database, key, "locked out"))) return
    await channels.refresh()
    for (const ring of ["channels", "live", "work", "sends"] as const) bell.ring(ring)
    await this.raise(known, `The channel ${key} works again: ${says}. What waited is handled and sent.`)
  }

  private async post(address: string, about: KnownChannel, text: string): Promise<void> {
    const event = {
      specversion: "1.0",
      id: `${about.row.key}-${wallClock("name").getTime()}`,
      source: "/wobbet",
      type: "wobbet.channel.alert",
      subject: about.row.key,
      time: wallClock("record").toISOString(),
      datacontenttype: "application/json",
      data: { channel: about.row.key, says: text },
    }
    const headers = { "content-type": "application/cloudevents+json" }
    const answer = await request(address, {
      method: "POST",
      headers,
      body: JSON.stringify(event),
      headersTimeout: 10_000,
      bodyTimeout: 10_000,
    })
    await answer.body.dump()
    if (answer.statusCode >= 300) throw new Error(`it answered ${answer.statusCode}`)
  }

  private async say(to: string, text: string): Promise<void> {
    const { database, channels, bell } = this.parts
    const at = to.indexOf(":")
    const [key, address] = [to.slice(0, at), to.slice(at + 1)]
    const on = channels.get(key)
    const found = to.startsWith("cnv_")
      ? [await conversationById(database, to)]
      : await conversationAt(database, on ? addressOn(on, address) : address, key)
    const conversation = found[0]
    const known = conversation && channels.get(conversation.channel)
    if (!conversation || !known) throw new Error("there is no such conversation")
    const { kind, topic } = conversation
    const place = { address: conversation.address, kind: kind as "direct", ...(topic ? { topic } : {}) }
    const message = renderPart({ part: "text", text: escapeMarkup(text) }, place, known)
    await addToLine(database, { conversation: conversation.id, channel: conversation.channel }, [
      { ...message, origin: "alert" },
    ])
    bell.ring("sends")
  }
}

/** Whether a channel speaks by a profile that names no receiver. */
export function isUnaddressed(channel: Channel): boolean {
  return hasProfile(channel) && lacksReceiver(profileOf(channel))
}

/** What to do about a profile that names no receiver. */
export function unaddressedRemedy(profile: string, key: string): string {
  return `${noReceiver.remedy} "wobbet profile show ${profile}" gives the profile, "wobbet profile set" takes the new one, and "wobbet channel resume ${key}" sends what waits.`
}
