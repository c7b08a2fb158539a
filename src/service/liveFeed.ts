import type { Bell } from "../store/bell.ts"
import type { Database } from "../store/database.ts"
import type { Happening } from "../store/live.ts"
import { happenings } from "../store/live.ts"
import type { Repeated } from "../engine/process/every.ts"
import { every } from "../engine/process/every.ts"

/** What happened between two cursors. */
interface Batch {
  from: string
  to: string
  items: (Happening & { xid: string })[]
}

/** Somebody who is told what happens. */
export interface Listener {
  /** Told what happened since what it was told last; says whether it has room for more just now. */
  tell(cursor: string, items: Happening[]): boolean
}

/** Happenings read at once. */
const most = 500
/** Milliseconds between two looks where no bell rings: what is committed only after its bell has rung. */
const sweepEvery = 1500
/** Milliseconds between two looks for each listener, so that a crowd of them costs the messages little. */
const pauseEach = 1
const longestPause = 250

/**
 * One reader for all live streams of a process: what it finds is given to every listener. A listener that is behind,
 * because it resumes or because its connection is slow, is brought up by reading for it alone, one at a time.
 */
export class LiveFeed {
  private readonly listeners = new Map<Listener, { cursor: string; behind: boolean }>()
  private cursor: string | undefined
  private looking: Repeated | undefined
  private off: (() => void) | undefined
  private catchingUp: Promise<void> = Promise.resolve()

  constructor(
    private readonly database: Database,
    private readonly bell: Bell,
  ) {}

  /** The cursor after everything that has happened by now. */
  async now(): Promise<string> {
    return (await happenings(this.database, undefined, 0)).cursor
  }

  /** Tells a listener everything from a cursor on. Gives what ends that, and what says that there is room again. */
  join(listener: Listener, cursor: string): { leave: () => void; ready: () => void } {
    this.listeners.set(listener, { cursor, behind: false })
    if (this.listeners.size === 1) this.start(cursor)
    const ready = () => this.catchUp(listener)
    ready()
    return {
      leave: () => {
        this.listeners.delete(listener)
        if (this.listeners.size === 0) this.stop()
      },
      ready,
    }
  }

  private start(cursor: string): void {
    this.cursor = cursor
    // Where the database is away, the next look reads on from the same cursor.
    const looking = (this.looking = every(
      sweepEvery,
      () => this.look(),
      () => undefined,
    ))
    // One that resumes is not left waiting for the first sweep.
    void looking.now()
    let pausing = false
    this.off = this.bell.on("live", () => {
      if (pausing) return
      pausing = true
      setTimeout(
        () => {
          pausing = false
          void looking.now()
        },
        Math.min(longestPause, this.listeners.size * pauseEach),
      ).unref()
    })
  }

  private stop(): void {
    this.off?.()
    void this.looking?.stop()
    this.looking = undefined
    this.cursor = undefined
  }

  private async look(): Promise<void> {
    const from = this.cursor
    if (from === undefined) return
    const found = await happenings(this.database, from, most)
    if (this.cursor !== from) return
    this.cursor = found.cursor
    const batch = { from, to: found.cursor, items: found.items }
    const whole = found.items.map(bare)
    for (const [listener, state] of this.listeners) this.give(listener, state, batch, whole)
    if (found.more) void this.looking?.now()
  }

  /** Gives a listener a batch, if it is the next it has to be told of. */
  private give(listener: Listener, state: { cursor: string; behind: boolean }, batch: Batch, whole: Happening[]): void {
    if (state.behind || isBefore(state.cursor, batch.from)) return
    if (!isBefore(state.cursor, batch.to)) return
    const items =
      state.cursor === batch.from ? whole : batch.items.filter(({ xid }) => !isBefore(xid, state.cursor)).map(bare)
    state.cursor = batch.to
    state.behind = items.length > 0 && !listener.tell(batch.to, items)
  }

  /** Reads for one listener until it has been told what everybody else has. */
  private catchUp(listener: Listener): void {
    this.catchingUp = this.catchingUp.then(async () => {
      try {
        for (;;) {
          const state = this.listeners.get(listener)
          if (!state || this.cursor === undefined || !isBefore(state.cursor, this.cursor)) {
            if (state) state.behind = false
            return
          }
          state.behind = true
          const { cursor, items } = await happenings(this.database, state.cursor, most)
          state.cursor = cursor
          // One that is full says when it is ready, and is read for again.
          if (items.length > 0 && !listener.tell(cursor, items.map(bare))) return
        }
      } catch {
        // The database is away: tried again a little later, for as long as the listener is there.
        setTimeout(() => this.catchUp(listener), sweepEvery).unref()
      }
    })
  }
}

function bare({ what, message, conversation, outcome }: Happening): Happening {
  return { what, message, conversation, outcome }
}

/** Cursors are whole numbers as text, longer than JavaScript's. */
function isBefore(a: string, b: string): boolean {
  return a.length === b.length ? a < b : a.length < b.length
}
