import type { RefObject } from "react"
import { useCallback, useEffect, useRef, useState } from "react"
import { remember, remembered, useWhenBack, isAway } from "./data.ts"
import type { Happened } from "./live.ts"
import { hear, stream } from "./live.ts"

/** A page of a list, as the API answers it. */
interface Page<T> {
  items: T[]
  next: string | null
  lookedTo?: string
}

interface Shown<T> extends Page<T> {
  /** What has come since, while somebody was reading: not shown until they ask for it. */
  held?: { page: Page<T>; fresh: number }
}

export interface PagedList<T> {
  items: T[] | undefined
  /** How many are new, and wait above until they are asked for. */
  fresh: number
  showFresh: () => void
  /** Where there is more, shows it. */
  more: (() => void) | undefined
  loading: boolean
  lookedTo: string | undefined
  error: Error | undefined
  /** The list's element: nothing moves in it while it is being read. */
  list: RefObject<HTMLDivElement | null>
}

/**
 * A list, the newest first, page by page. What arrives is shown at once only where nobody is reading: at the top, with
 * neither pointer nor focus in it. Otherwise what is shown changes in its place, and what is new is counted.
 *
 * @param options.key says what is asked for
 * @param options.id tells one entry from another
 * @param options.place an entry with another place than before has moved to the top
 */
export function usePages<T>(options: {
  key: string
  load: (cursor: string | undefined) => Promise<Page<T>>
  id: (item: T) => string
  place: (item: T) => string | null
  concerns: (happened: Happened) => boolean
}): PagedList<T> {
  const { key } = options
  const list = useRef<HTMLDivElement>(null)
  const now = useRef(options)
  now.current = options
  const [state, setState] = useState<{ key: string; shown: Shown<T> | undefined }>({ key, shown: remembered(key) })
  const [error, setError] = useState<Error>()
  const [loading, setLoading] = useState(false)
  const run = useRef({ busy: false, again: false })

  const put = useCallback((asked: string, change: (before: Shown<T> | undefined) => Shown<T>) => {
    if (now.current.key !== asked) return
    const shown = change(remembered(asked))
    remember(asked, shown)
    setState({ key: asked, shown })
  }, [])

  const look = useCallback(() => {
    if (run.current.busy) {
      run.current.again = true
      return
    }
    run.current.busy = true
    const { key: asked, load, id, place } = now.current
    stream
      .then(() => load(undefined))
      .then(
        (page) => {
          setError(undefined)
          put(asked, (before) => (before ? merged(before, page, { id, place, reading: isRead(list.current) }) : page))
        },
        (fault: Error) => now.current.key === asked && setError(fault),
      )
      .finally(() => {
        const { again } = run.current
        run.current = { busy: false, again: false }
        if (again || now.current.key !== asked) look()
      })
  }, [])

  useEffect(() => {
    setError(undefined)
    look()
    return hear((happened) => now.current.concerns(happened) && look())
  }, [key, look])
  useWhenBack(error !== undefined, look)

  const shown = state.key === key ? state.shown : remembered<Shown<T>>(key)
  const more = () => {
    if (loading || !shown?.next) return
    setLoading(true)
    const { load, id } = now.current
    load(shown.next)
      .then(
        (page) =>
          put(key, (before) => ({
            ...before!,
            items: [...before!.items, ...without(page.items, before!.items, id)],
            next: page.next,
            ...(page.lookedTo === undefined ? {} : { lookedTo: page.lookedTo }),
          })),
        setError,
      )
      .finally(() => setLoading(false))
  }
  const showFresh = () => {
    put(key, (before) => joined(before!, before!.held!.page, now.current.id))
    list.current?.scrollTo({ top: 0 })
    list.current?.closest("main")?.scrollTo({ top: 0 })
  }
  return {
    items: shown?.items,
    fresh: shown?.held?.fresh ?? 0,
    showFresh,
    more: shown?.next ? more : undefined,
    loading,
    lookedTo: shown?.lookedTo,
    error: shown && error && isAway(error) ? undefined : error,
    list,
  }
}

/** Whether somebody reads a list just now: then nothing in it may move. */
function isRead(list: HTMLElement | null): boolean {
  if (!list) return false
  const scrolled = list.scrollTop > 4 || (list.closest("main")?.scrollTop ?? 0) > 4
  return scrolled || list.matches(":hover") || list.contains(document.activeElement)
}

/** What is shown, with a newer first page. */
export function merged<T>(
  before: Shown<T>,
  page: Page<T>,
  { id, place, reading }: { id: (item: T) => string; place: (item: T) => string | null; reading: boolean },
): Shown<T> {
  const old = new Map(before.items.map((item) => [id(item), item]))
  const fresh = page.items.filter((item) => {
    const known = old.get(id(item))
    return known === undefined || place(known) !== place(item)
  })
  if (!reading) return joined(before, page, id)
  const now = new Map(page.items.map((item) => [id(item), item]))
  const { held: _held, ...kept } = before
  return {
    ...kept,
    // What is no longer in the list stays in its place until nobody looks: nothing else comes under the pointer.
    items: before.items.map((item) => now.get(id(item)) ?? item),
    ...(fresh.length > 0 ? { held: { page, fresh: fresh.length } } : {}),
  }
}

/** The newer page first, then what was shown below it; where nothing of that is in the page, something may lie between. */
function joined<T>(before: Shown<T>, page: Page<T>, id: (item: T) => string): Shown<T> {
  const inPage = new Set(page.items.map(id))
  const last = before.items.findLastIndex((item) => inPage.has(id(item)))
  if (page.next === null || last === -1) return page
  // What stood between those in the page and is not in it any more has left the list.
  const rest = before.items.slice(last + 1).filter((item) => !inPage.has(id(item)))
  const { held: _held, ...kept } = before
  return { ...kept, items: [...page.items, ...rest] }
}

function without<T>(items: T[], others: T[], id: (item: T) => string): T[] {
  const known = new Set(others.map(id))
  return items.filter((item) => !known.has(id(item)))
}
