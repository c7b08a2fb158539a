import { useSyncExternalStore } from "react"
import type { LiveState, Told } from "../client/follow.ts"
import { service } from "./service.ts"

/** What happened within a moment, put together. */
export interface Happened {
  /** Conversations in which something happened, and the messages it happened to. */
  conversations: Set<string>
  messages: Set<string>
  /** Messages that were said or sent, as conversation by message. */
  said: Map<string, string>
  channels: boolean
  bot: boolean
  parked: boolean
}

type Listener = (happened: Happened) => void

const listeners = new Set<Listener>()
const watchers = new Set<() => void>()
let state: LiveState | undefined
let hurry: () => void = () => undefined

/** Milliseconds for which events are gathered: under load, four looks a second are enough for eyes. */
const gather = 250

let opened: () => void = () => undefined
/** Resolves once the stream has begun or failed for the first time: what is read after that misses nothing. */
export const stream = new Promise<void>((resolve) => (opened = resolve))

/** One live stream for the whole page, over every break. */
export function openLive(): () => void {
  const end = new AbortController()
  const gathered = new Gathered()
  const run = async () => {
    const told = service.follow({
      signal: end.signal,
      patient: true,
      state: say,
      hurry: (now) => {
        hurry = now
        addEventListener("online", now)
        return () => removeEventListener("online", now)
      },
    })
    for await (const one of told) gathered.take(one)
  }
  // The service knows us no longer: whatever is asked for next says so.
  run().catch((error: Error) => service.refused?.(error))
  return () => {
    end.abort()
    gathered.end()
    say(undefined)
  }
}

class Gathered {
  private happened = nothing()
  private timer: ReturnType<typeof setTimeout> | undefined

  take(told: Told): void {
    const { happened } = this
    if (told.event === "ready") {
      opened()
      // What channels and the bot folder did meanwhile is not on record.
      if (!told.again) return
      happened.channels = happened.bot = true
    } else if (told.event === "happened") {
      for (const { what, message, conversation } of told.items) {
        if (conversation) happened.conversations.add(conversation)
        if (message) happened.messages.add(message)
        if (what === "message" && conversation && message) happened.said.set(message, conversation)
        if (what === "parked" || what === "decided") happened.parked = true
      }
    } else happened[told.event] = true
    this.timer ??= setTimeout(() => {
      this.timer = undefined
      this.happened = nothing()
      listeners.forEach((listener) => listener(happened))
    }, gather)
  }

  end(): void {
    clearTimeout(this.timer)
  }
}

function nothing(): Happened {
  return {
    conversations: new Set(),
    messages: new Set(),
    said: new Map(),
    channels: false,
    bot: false,
    parked: false,
  }
}

/** Hears of everything that happens. */
export function hear(listener: Listener): () => void {
  listeners.add(listener)
  return () => void listeners.delete(listener)
}

function say(next: LiveState | undefined): void {
  state = next
  if (next) opened()
  watchers.forEach((watcher) => watcher())
}

/** Whether the page is live; undefined until that is known. */
export function useLive(): LiveState | undefined {
  return useSyncExternalStore(
    (watcher) => {
      watchers.add(watcher)
      return () => void watchers.delete(watcher)
    },
    () => state,
  )
}

/** Does not wait for the next attempt. */
export function tryNow(): void {
  hurry()
}
