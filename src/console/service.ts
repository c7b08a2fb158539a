import { useCallback, useEffect, useRef, useState } from "react"
import { ApiError, Client } from "../client/client.ts"

/** The service this page came from. */
export const service = new Client("")

const listeners = new Set<() => void>()
let stream: EventSource | undefined

/** One live stream for the whole page; it reconnects by itself and resumes where it was broken off. */
export function openLive(): () => void {
  stream?.close()
  stream = new EventSource("/api/v1/live")
  let timer: ReturnType<typeof setTimeout> | undefined
  const tell = () => {
    // Under load many things happen at once; four looks a second are enough for eyes.
    timer ??= setTimeout(() => {
      timer = undefined
      listeners.forEach((listener) => listener())
    }, 250)
  }
  for (const name of ["happened", "channels", "bot", "ready"]) stream.addEventListener(name, tell)
  return () => {
    clearTimeout(timer)
    stream?.close()
  }
}

export interface Loaded<T> {
  data: T | undefined
  error: Error | undefined
  again: () => void
}

/** What a call of the API answers, read again whenever something happens. `key` says what is asked for. */
export function useData<T>(key: string, load: () => Promise<T>): Loaded<T> {
  const [state, setState] = useState<{ key: string; data: T | undefined; error: Error | undefined }>({
    key,
    data: undefined,
    error: undefined,
  })
  const loader = useRef(load)
  loader.current = load
  const running = useRef({ busy: false, again: false, key })
  running.current.key = key

  const look = useCallback(() => {
    const run = running.current
    if (run.busy) {
      run.again = true
      return
    }
    run.busy = true
    const asked = run.key
    loader
      .current()
      .then(
        (data) => run.key === asked && setState({ key: asked, data, error: undefined }),
        (error: Error) =>
          run.key === asked &&
          setState((before) => ({ key: asked, data: before.key === asked ? before.data : undefined, error })),
      )
      .finally(() => {
        run.busy = false
        if (!run.again && run.key === asked) return
        run.again = false
        look()
      })
  }, [])

  useEffect(() => {
    look()
    listeners.add(look)
    return () => void listeners.delete(look)
  }, [key, look])

  return {
    data: state.key === key ? state.data : undefined,
    error: state.key === key ? state.error : undefined,
    again: look,
  }
}

export function problemText(error: Error): string {
  return error instanceof ApiError
    ? `${error.message} ${error.remedy}`
    : "The service does not answer. It is asked again as soon as it is back."
}
