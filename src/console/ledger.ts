import { useCallback, useEffect, useRef, useState } from "react"
import type { MessageView } from "../client/types.ts"
import { isAway, remember, remembered, useWhenBack } from "./data.ts"
import type { Happened } from "./live.ts"
import { hear, stream } from "./live.ts"
import { service } from "./service.ts"

/** Messages of one conversation that stand one after the other, and whether there are others before and after them. */
interface Stretch {
  messages: MessageView[]
  older: boolean
  newer: boolean
}

export interface LedgerData extends Stretch {
  /** The place of the message that was searched for. */
  at: number | undefined
  loaded: boolean
  /** Said since, below the last that is shown, where the newest are not shown. */
  unseen: number
  showOlder: () => void
  showNewer: () => void
  showNewest: () => void
  again: () => void
  error: Error | undefined
}

const pageLength = 100
/** Messages shown below the one that was searched for. */
const below = 30
/** Messages that are read again one by one, where something happens to old ones. */
const mostAlone = 10

/** What was said in a conversation: the newest, or what stands around one message, and from there on as far as one goes. */
export function useLedger(id: string, at: number | undefined): LedgerData {
  const key = `ledger ${id} ${at ?? ""}`
  const [stretch, setStretch] = useState<Stretch | undefined>(remembered<Stretch>(key))
  const [unseen, setUnseen] = useState(0)
  const [error, setError] = useState<Error>()
  const now = useRef({ stretch, chain: Promise.resolve() })
  now.current.stretch = stretch

  /** One change after the other: each begins with what the one before it left. */
  const change = useCallback((make: (before: Stretch | undefined) => Promise<Stretch | undefined>) => {
    now.current.chain = now.current.chain
      .then(() => stream)
      .then(() => make(now.current.stretch))
      .then((next) => {
        setError(undefined)
        if (!next) return
        now.current.stretch = next
        remember(key, next)
        setStretch(next)
      })
      .catch(setError)
  }, [])

  const again = useCallback(() => change((before) => (before ? newest(id, before) : begin(id, at))), [])
  useEffect(() => {
    again()
    return hear((happened) => {
      if (!happened.conversations.has(id)) return
      if (now.current.stretch?.newer)
        setUnseen((before) => before + [...happened.said.values()].filter((said) => said === id).length)
      change((before) => (before ? renewed(id, before, happened) : begin(id, at)))
    })
  }, [])
  useWhenBack(error !== undefined, again)

  return {
    ...(stretch ?? { messages: [], older: false, newer: false }),
    loaded: stretch !== undefined,
    at,
    unseen,
    again,
    error: stretch && error && isAway(error) ? undefined : error,
    showOlder: () => change((before) => older(id, before!)),
    showNewer: () => change((before) => newer(id, before!)),
    showNewest: () => {
      setUnseen(0)
      change(() => begin(id, undefined))
    },
  }
}

async function read(id: string, cursor: number | undefined, limit = pageLength) {
  return service.conversationMessages(id, { limit, ...(cursor === undefined ? {} : { cursor: String(cursor) }) })
}

async function begin(id: string, at: number | undefined): Promise<Stretch> {
  const page = await read(id, at === undefined ? undefined : at + below)
  if (at === undefined) return { messages: page.items, older: page.next !== null, newer: false }
  const last = page.items.at(-1)?.position ?? 0
  const [end] = (await read(id, undefined, 1)).items
  return { messages: page.items, older: page.next !== null, newer: (end?.position ?? 0) > last }
}

async function older(id: string, before: Stretch): Promise<Stretch> {
  const page = await read(id, before.messages[0]!.position)
  return { ...before, messages: [...page.items, ...before.messages], older: page.next !== null }
}

async function newer(id: string, before: Stretch): Promise<Stretch> {
  const last = before.messages.at(-1)?.position ?? 0
  const page = await read(id, last + pageLength + 1)
  const added = page.items.filter((message) => message.position > last)
  return { ...before, messages: [...before.messages, ...added], newer: added.length === pageLength }
}

/** With the newest messages, where the newest are shown. */
async function newest(id: string, before: Stretch): Promise<Stretch> {
  if (before.newer) return before
  const page = await read(id, undefined)
  const last = before.messages.at(-1)?.position ?? 0
  const first = page.items[0]?.position ?? 0
  // So much was said meanwhile that something may lie between.
  if (first > last + 1 && before.messages.length > 0)
    return { messages: page.items, older: page.next !== null, newer: false }
  return { ...before, messages: [...before.messages.filter((message) => message.position < first), ...page.items] }
}

/** With what happened to the messages that are shown. */
async function renewed(id: string, before: Stretch, happened: Happened): Promise<Stretch> {
  const next = await newest(id, before)
  const recent = new Set(before.newer ? [] : next.messages.slice(-pageLength).map((message) => message.id))
  const touched = next.messages.filter((message) => happened.messages.has(message.id) && !recent.has(message.id))
  const read = await Promise.all(touched.slice(-mostAlone).map((message) => service.message(message.id)))
  const changed = new Map(read.map((message) => [message.id, message]))
  return { ...next, messages: next.messages.map((message) => changed.get(message.id) ?? message) }
}
