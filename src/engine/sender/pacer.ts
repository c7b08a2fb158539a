import type { Pace } from "../../core/channels/kind.ts"
import type { OutgoingCall } from "../../core/channels/call.ts"
import { Rate } from "../../core/delivery/rate.ts"
import type { Place } from "../../core/message/message.ts"
import { hurry } from "../../store/faults.ts"
import { wallClock } from "../process/wallClock.ts"

/** How every reason begins that ends by itself with the time, or with other settings. */
export const waitsFor = "waits for"

/** What a channel's settings say of its pace. */
export interface PaceSettings {
  perSecond?: number
  perDay?: number
  /** Seconds, from and to. */
  pauseBetween?: [number, number]
}

export function paceSettings(settings: { [name: string]: unknown }): PaceSettings {
  const { perSecond, perDay, pauseBetween } = settings as PaceSettings
  return {
    ...(perSecond ? { perSecond } : {}),
    ...(perDay ? { perDay } : {}),
    ...(pauseBetween ? { pauseBetween } : {}),
  }
}

/** Now, by two clocks: pace goes by one that no person sets, the day by the calendar's. In milliseconds. */
export interface Clocks {
  /** Since this process began. */
  steady: number
  /** Since 1970. */
  wall: number
}

export const readClocks = (): Clocks => ({ steady: performance.now(), wall: wallClock("calendar").getTime() })

/** How fast one channel may speak: in all, in one place, with pauses between, and by the day. Lives with the sender. */
export class Pacer {
  private inAll: Rate
  private readonly places = new Map<string, Rate[]>()
  private pausedUntil = 0
  /** Which day (UTC, counted from 1970), and what was sent on it. */
  private today = { day: 0, sent: 0 }

  constructor(
    private readonly pace: Pace,
    private settings: PaceSettings,
  ) {
    this.inAll = this.newRate()
  }

  /** Follows changed settings without forgetting what was sent. Says whether what waits may have to wait no longer. */
  adjust(settings: PaceSettings): boolean {
    const before = this.settings
    this.settings = settings
    if (settings.perSecond !== before.perSecond) this.inAll = this.newRate()
    return JSON.stringify(settings) !== JSON.stringify(before)
  }

  /** Milliseconds until this call may go; 0 for now. */
  wait(place: Place, call: OutgoingCall, now: Clocks): number {
    const { steady } = now
    if (!call.speaks) return Math.ceil(this.inAll.wait(steady))
    const waits = this.ratesOf(place, now).map((rate) => rate.wait(steady))
    return Math.ceil(Math.max(this.inAll.wait(steady), this.pausedUntil - steady, this.untilTomorrow(now), ...waits))
  }

  /** What a call waits for that may not go yet, in words. */
  reason(now: Clocks): string {
    const { perDay } = this.settings
    if (this.untilTomorrow(now) > 0)
      return `${waitsFor} the day's cap of ${perDay}, which is reached (a day begins at midnight UTC)`
    if (this.pausedUntil > now.steady) return `${waitsFor} the channel's pause between messages`
    return `${waitsFor} the pace the provider asks for`
  }

  take(place: Place, call: OutgoingCall, now: Clocks, random: () => number): void {
    this.inAll.take(now.steady)
    if (!call.speaks) return
    this.ratesOf(place, now).forEach((rate) => rate.take(now.steady))
    const { pauseBetween } = this.settings
    if (pauseBetween)
      this.pausedUntil = now.steady + (pauseBetween[0] + random() * (pauseBetween[1] - pauseBetween[0])) * 1000
    this.countDay(now)
    this.today.sent++
  }

  /** The provider said how long to wait: in this place, or, where one call asks for long, anywhere. */
  hold(place: Place, seconds: number, now: Clocks): void {
    this.ratesOf(place, now).forEach((rate) => rate.holdUntil(now.steady + seconds * 1000))
  }

  /** How many were sent today before this process began to count. */
  startDayAt(sent: number, now: Clocks): void {
    this.countDay(now)
    this.today.sent = Math.max(this.today.sent, sent)
  }

  private newRate(): Rate {
    return Rate.perSecond(this.settings.perSecond ?? this.pace.perSecond)
  }

  private ratesOf(place: Place, now: Clocks): Rate[] {
    const known = this.places.get(place.address)
    if (known) return known
    if (this.places.size > 10_000) this.forgetIdle(now)
    const { perPlace, perGroup } = this.pace
    const rates = [new Rate(perPlace.count, perPlace.seconds / hurry)]
    if (place.kind !== "direct") rates.push(new Rate(perGroup.count, perGroup.seconds / hurry))
    this.places.set(place.address, rates)
    return rates
  }

  private forgetIdle(now: Clocks): void {
    for (const [address, rates] of this.places) {
      if (rates.every((rate) => rate.idle(now.steady))) this.places.delete(address)
    }
  }

  private countDay(now: Clocks): void {
    const day = Math.floor(now.wall / 86_400_000)
    if (this.today.day !== day) this.today = { day, sent: 0 }
  }

  private untilTomorrow(now: Clocks): number {
    this.countDay(now)
    if (this.settings.perDay === undefined || this.today.sent < this.settings.perDay) return 0
    return (this.today.day + 1) * 86_400_000 - now.wall
  }
}
