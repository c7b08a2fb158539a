import type { OutgoingCall, Pace } from "../core/channels/kind.ts"
import { Bucket } from "../core/delivery/bucket.ts"
import type { Place } from "../core/message/message.ts"

/** How fast one channel may speak: in all, in one place, with pauses between, and by the day. Lives with the sender. */
export class Pacer {
  private inAll: Bucket
  private readonly places = new Map<string, Bucket[]>()
  private pausedUntil = 0
  private today: { day: string; sent: number } = { day: "", sent: 0 }

  constructor(
    private readonly pace: Pace,
    private settings: { perSecond?: number; perDay?: number; pauseBetween?: [number, number] },
    now: number,
  ) {
    this.inAll = this.newBucket(now)
  }

  /** Follows changed settings without forgetting what was sent. */
  adjust(settings: Pacer["settings"], now: number): void {
    if (settings.perSecond !== this.settings.perSecond) {
      this.settings = settings
      this.inAll = this.newBucket(now)
    }
    this.settings = settings
  }

  /** Milliseconds until this call may go; 0 for now. */
  wait(place: Place, call: OutgoingCall, now: number): number {
    if (!call.speaks) return this.inAll.wait(now)
    const waits = this.bucketsOf(place, now).map((bucket) => bucket.wait(now))
    return Math.max(this.inAll.wait(now), this.pausedUntil - now, this.untilTomorrow(now), ...waits)
  }

  take(place: Place, call: OutgoingCall, now: number, random: () => number): void {
    this.inAll.take(now)
    if (!call.speaks) return
    this.bucketsOf(place, now).forEach((bucket) => bucket.take(now))
    const { pauseBetween } = this.settings
    if (pauseBetween) this.pausedUntil = now + (pauseBetween[0] + random() * (pauseBetween[1] - pauseBetween[0])) * 1000
    this.countDay(now)
    this.today.sent++
  }

  /** The provider said how long to wait: in this place, or, where one call asks for long, anywhere. */
  hold(place: Place, seconds: number, now: number): void {
    this.bucketsOf(place, now).forEach((bucket) => bucket.holdUntil(now + seconds * 1000, now))
  }

  /** How many were sent today before this process began to count. */
  startDayAt(sent: number, now: number): void {
    this.countDay(now)
    this.today.sent = Math.max(this.today.sent, sent)
  }

  private newBucket(now: number): Bucket {
    return new Bucket(this.settings.perSecond ?? this.pace.perSecond, 1, now)
  }

  private bucketsOf(place: Place, now: number): Bucket[] {
    const known = this.places.get(place.address)
    if (known) return known
    if (this.places.size > 10_000) this.forgetFull(now)
    const { perPlace, perGroup } = this.pace
    const buckets = [new Bucket(perPlace.count, perPlace.seconds, now)]
    if (place.kind !== "direct") buckets.push(new Bucket(perGroup.count, perGroup.seconds, now))
    this.places.set(place.address, buckets)
    return buckets
  }

  private forgetFull(now: number): void {
    for (const [address, buckets] of this.places)
      if (buckets.every((bucket) => bucket.full(now))) this.places.delete(address)
  }

  private countDay(now: number): void {
    const day = new Date(now).toISOString().slice(0, 10)
    if (this.today.day !== day) this.today = { day, sent: 0 }
  }

  private untilTomorrow(now: number): number {
    this.countDay(now)
    if (this.settings.perDay === undefined || this.today.sent < this.settings.perDay) return 0
    return Date.parse(`${this.today.day}T00:00:00Z`) + 86_400_000 - now
  }
}
