import { useSyncExternalStore } from "react"
import { kept, newKey } from "./browser.ts"
import { service } from "./service.ts"

/** A text on its way: its key is its own, so that sending it again sends it once. */
export interface Pending {
  key: string
  text: string
  /** Why it was not sent, or may not have been; undefined while it is on its way. */
  failed?: string
}

/** What somebody has written in one conversation: not sent yet, and on its way. */
export interface Box {
  draft: string
  pending: Pending[]
}

const beginning = "wobbet-box "
let owner = ""

/** Whose boxes these are: somebody else who signs in at the same browser has boxes of their own. */
export function boxesOf(visitor: string): void {
  if (visitor !== owner) boxes.clear()
  owner = visitor
}

const nameOf = (conversation: string) => `${beginning}${owner} ${conversation}`
const boxes = new Map<string, Box>()
const busy = new Set<string>()
const watchers = new Set<() => void>()

/** Read from this browser once; what was on its way when the page was left may have been sent or not. */
function boxOf(conversation: string): Box {
  const known = boxes.get(conversation)
  if (known) return known
  let box: Box = { draft: "", pending: [] }
  try {
    const { draft, pending } = JSON.parse(kept.get(nameOf(conversation)) ?? "{}") as Partial<Box>
    box = {
      draft: draft ?? "",
      pending: (pending ?? []).map((one) => ({
        ...one,
        failed: one.failed ?? "The page was left before the service answered. Sent again, it arrives once.",
      })),
    }
  } catch {
    // Written by somebody else: nothing that can be read.
  }
  boxes.set(conversation, box)
  return box
}

function put(conversation: string, change: (box: Box) => Box): void {
  const box = change(boxOf(conversation))
  boxes.set(conversation, box)
  const nothing = box.draft === "" && box.pending.length === 0
  kept.set(nameOf(conversation), nothing ? undefined : JSON.stringify(box))
  watchers.forEach((watcher) => watcher())
}

export function useBox(conversation: string): Box {
  return useSyncExternalStore(
    (watcher) => {
      watchers.add(watcher)
      return () => void watchers.delete(watcher)
    },
    () => boxOf(conversation),
  )
}

export function write(conversation: string, draft: string): void {
  put(conversation, (box) => ({ ...box, draft }))
}

/** Sends what is written; the box is free for the next at once. */
export function sendDraft(conversation: string): void {
  const { draft } = boxOf(conversation)
  if (!draft.trim()) return
  put(conversation, (box) => ({ draft: "", pending: [...box.pending, { key: newKey(), text: draft }] }))
  void sendNext(conversation)
}

/** Sends again what failed, with its own key. */
export function sendAgain(conversation: string): void {
  put(conversation, (box) => ({ ...box, pending: box.pending.map(({ key, text }) => ({ key, text })) }))
  void sendNext(conversation)
}

/** Takes back into the box what was not sent. */
export function takeBack(conversation: string, key: string): void {
  put(conversation, ({ draft, pending }) => {
    const taken = pending.find((one) => one.key === key)
    return {
      draft: [taken?.text, draft].filter(Boolean).join("\n"),
      pending: pending.filter((one) => one.key !== key),
    }
  })
}

/** One after the other: what was written first is said first. */
async function sendNext(conversation: string): Promise<void> {
  if (busy.has(conversation)) return
  busy.add(conversation)
  try {
    for (;;) {
      const [next] = boxOf(conversation).pending
      if (!next || next.failed !== undefined) return
      const { key, text } = next
      try {
        await service.send({ to: conversation, text }, key)
        put(conversation, (box) => ({ ...box, pending: box.pending.filter((one) => one.key !== key) }))
      } catch (error) {
        const failed = whyOf(error as Error & { remedy?: string })
        put(conversation, (box) => ({
          ...box,
          pending: box.pending.map((one) => (one.key === key ? { ...one, failed } : one)),
        }))
        return
      }
    }
  } finally {
    busy.delete(conversation)
  }
}

function whyOf(error: Error & { status?: number; remedy?: string }): string {
  if (error.status === undefined || error.status >= 500)
    return "No answer came, so it may have been taken or not. Sent again, it arrives once."
  return `${error.message} ${error.remedy ?? ""}`.trim()
}

/** Drafts go when the person who wrote them signs out. */
export function forgetBoxes(): void {
  kept.forget(`${beginning}${owner} `)
  boxes.clear()
}
