import { useCallback, useEffect, useRef, useState } from "react"
import { ApiError, NoService } from "../client/client.ts"
import type { Happened } from "./live.ts"
import { hear, stream, useLive } from "./live.ts"

export interface Loaded<T> {
  data: T | undefined
  error: Error | undefined
  again: () => void
}

/** Answers that were read last, so that whoever goes back sees at once what stood there. */
const seen = new Map<string, unknown>()
const mostSeen = 60

export function remembered<T>(key: string): T | undefined {
  return seen.get(key) as T | undefined
}

export function remember(key: string, value: unknown): void {
  seen.delete(key)
  seen.set(key, value)
  if (seen.size > mostSeen) seen.delete(seen.keys().next().value!)
}

export function forgetSeen(): void {
  seen.clear()
}

const anything = () => true

const underWay = new Map<string, Promise<unknown>>()

/** Those that ask for the same at the same moment share one answer; whoever asks later gets a newer one. */
function together<T>(key: string, load: () => Promise<T>): Promise<T> {
  let asked = underWay.get(key) as Promise<T> | undefined
  if (!asked) {
    underWay.set(key, (asked = load()))
    setTimeout(() => underWay.delete(key))
  }
  return asked
}

/**
 * What a call of the API answers, read again whenever something happens that concerns it.
 *
 * @param key says what is asked for
 * @param concerns whether what happened can have changed the answer
 */
export function useData<T>(
  key: string,
  load: () => Promise<T>,
  concerns: (happened: Happened) => boolean = anything,
): Loaded<T> {
  const [state, setState] = useState<{ key: string; data: T | undefined; error: Error | undefined }>({
    key,
    data: remembered<T>(key),
    error: undefined,
  })
  const run = useRef({ busy: false, again: false, key, load, concerns })
  Object.assign(run.current, { key, load, concerns })

  const look = useCallback(() => {
    const now = run.current
    if (now.busy) {
      now.again = true
      return
    }
    now.busy = true
    const asked = now.key
    stream
      .then(() => together(asked, now.load))
      .then(
        (data) => {
          if (now.key !== asked) return
          remember(asked, data)
          setState({ key: asked, data, error: undefined })
        },
        (error: Error) =>
          now.key === asked &&
          setState((before) => ({ key: asked, data: before.key === asked ? before.data : undefined, error })),
      )
      .finally(() => {
        now.busy = false
        if (!now.again && now.key === asked) return
        now.again = false
        look()
      })
  }, [])

  useEffect(() => {
    look()
    return hear((happened) => run.current.concerns(happened) && look())
  }, [key, look])
  useWhenBack(state.error !== undefined, look)

  const data = state.key === key ? state.data : remembered<T>(key)
  const error = state.key === key ? state.error : undefined
  // While nobody answers, every page says so; what was read stays.
  return { data, error: data !== undefined && error && isAway(error) ? undefined : error, again: look }
}

/** Tries again once the page is live again. */
export function useWhenBack(failed: boolean, again: () => void): void {
  const live = useLive()?.live
  useEffect(() => {
    if (live && failed) again()
  }, [live])
}

export function isAway(error: Error): boolean {
  return error instanceof NoService || (error instanceof ApiError && error.status >= 500)
}

/** Does something on request: whether it is under way, and what went wrong. */
export function useAct(): {
  act: (run: () => Promise<unknown>, done?: () => void) => void
  busy: boolean
  error: Error | undefined
  clear: () => void
} {
  const [busy, setBusy] = useState(false)
  const [error, setError] = useState<Error>()
  const act = useCallback((run: () => Promise<unknown>, done?: () => void) => {
    setBusy(true)
    setError(undefined)
    run()
      .then(() => done?.(), setError)
      .finally(() => setBusy(false))
  }, [])
  return { act, busy, error, clear: () => setError(undefined) }
}
