import { useCallback, useEffect, useLayoutEffect, useRef, useState } from "react"
import { Link } from "react-router"
import { shown } from "../../client/shown.ts"
import type { MessageView } from "../../client/types.ts"
import type { LedgerData } from "../ledger.ts"
import { clock, span, when } from "../time.ts"
import { Button, Empty, Fresh } from "./basics.tsx"
import { Kept } from "./Kept.tsx"
import { MessageWord, SmallRail } from "./Rail.tsx"

/** Seconds up to which a gap is drawn to scale; a longer one is folded, and says how long it is. */
const foldAfter = 90
/** Pixels from the end within which somebody reads what is newest. */
const nearEnd = 48

/** Two columns, received and sent, on one time axis with the gaps to scale. */
export function Ledger({ ledger }: { ledger: LedgerData }) {
  const { messages, older, newer, at, unseen } = ledger
  const [scroller, content, below, toEnd] = useReading(ledger)
  return (
    <div className="relative flex min-h-0 flex-1 flex-col">
      <div
        ref={scroller}
        className="min-h-0 flex-1 overflow-y-auto px-2 py-3 [overflow-anchor:none] sm:px-4"
        tabIndex={0}
        role="region"
        aria-label="Ledger"
      >
        <div ref={content}>
          <div className="mx-auto grid max-w-4xl grid-cols-[1fr_4.5rem_1fr] text-xs text-quiet">
            <span className="text-right">received</span>
            <span />
            <span>sent</span>
          </div>
          {older ? (
            <div className="py-2 text-center">
              <Button onClick={ledger.showOlder}>Show older</Button>
            </div>
          ) : null}
          {ledger.loaded && messages.length === 0 ? <Empty>Nothing was said here yet.</Empty> : null}
          <ol className="m-0 mx-auto max-w-4xl list-none p-0">
            {messages.map((message, index) => (
              <Entry key={message.id} message={message} before={messages[index - 1]} sought={message.position === at} />
            ))}
          </ol>
          {newer ? (
            <div className="flex justify-center gap-2 py-2">
              <Button onClick={ledger.showNewer}>Show newer</Button>
              <Button onClick={ledger.showNewest}>
                The newest{unseen > 0 ? ` (${unseen} new)` : ""} <span aria-hidden="true">↓</span>
              </Button>
            </div>
          ) : null}
        </div>
      </div>
      <div className="absolute bottom-3 flex w-full justify-center">
        <Fresh many={below} show={toEnd} below />
      </div>
    </div>
  )
}

/**
 * Keeps what is being read where it is. Whoever reads the end follows it; everybody else is told how many came below.
 */
function useReading({ messages, at, loaded, newer }: LedgerData) {
  const scroller = useRef<HTMLDivElement>(null)
  const content = useRef<HTMLDivElement>(null)
  const [below, setBelow] = useState(0)
  const reading = useRef({ follows: at === undefined, anchor: undefined as Anchor | undefined, last: 0, begun: false })

  const toEnd = useCallback(() => {
    reading.current.follows = true
    setBelow(0)
    scroller.current!.scrollTo({ top: scroller.current!.scrollHeight })
  }, [])

  const settle = useCallback(() => {
    const box = scroller.current
    const now = reading.current
    if (!box) return
    if (now.follows) box.scrollTop = box.scrollHeight
    else if (now.anchor?.element.isConnected)
      box.scrollTop += now.anchor.element.getBoundingClientRect().top - now.anchor.top
  }, [])

  useEffect(() => {
    const box = scroller.current!
    const note = () => {
      const now = reading.current
      now.follows = !newer && box.scrollHeight - box.scrollTop - box.clientHeight < nearEnd
      now.anchor = anchorIn(box)
      if (now.follows) setBelow(0)
    }
    box.addEventListener("scroll", note, { passive: true })
    // Pictures come later than words, and the box for answers grows.
    const sizes = new ResizeObserver(settle)
    sizes.observe(content.current!)
    sizes.observe(box)
    return () => {
      box.removeEventListener("scroll", note)
      sizes.disconnect()
    }
  }, [newer])

  const last = messages.at(-1)?.position ?? 0
  useLayoutEffect(() => {
    const now = reading.current
    if (!loaded) return
    if (!now.begun) {
      now.begun = true
      now.last = last
      scroller.current!.querySelector("[data-sought]")?.scrollIntoView({ block: "center" })
    }
    settle()
    now.anchor = anchorIn(scroller.current!)
    const came = messages.filter((message) => message.position > now.last).length
    if (!now.follows && !newer && came > 0) setBelow((before) => before + came)
    now.last = last
  }, [messages, loaded])
  return [scroller, content, below, toEnd] as const
}

interface Anchor {
  element: Element
  top: number
}

/** The first entry that is wholly in view. */
function anchorIn(box: HTMLElement): Anchor | undefined {
  const { top } = box.getBoundingClientRect()
  for (const element of box.querySelectorAll("[data-entry]")) {
    const place = element.getBoundingClientRect().top
    if (place >= top) return { element, top: place }
  }
  return undefined
}

function Entry({
  message,
  before,
  sought,
}: {
  message: MessageView
  before: MessageView | undefined
  sought: boolean
}) {
  const gap = before ? (Date.parse(message.receivedAt) - Date.parse(before.receivedAt)) / 1000 : 0
  const folded = gap > foldAfter
  const height = folded ? 44 : Math.max(4, gap * 1.2)
  const received = message.direction === "in"
  return (
    <li className="grid grid-cols-[1fr_4.5rem_1fr]">
      <span />
      <span className="relative flex justify-center" style={{ height }}>
        {folded ? (
          <>
            <svg width="14" height={height} viewBox={`0 0 14 ${height}`} aria-hidden="true">
              <path
                d={`M7 0 V8 L2 13 L12 ${height - 13} L7 ${height - 8} V${height}`}
                fill="none"
                stroke="var(--line)"
                strokeWidth="2"
              />
            </svg>
            <span className="absolute top-1/2 left-full -translate-y-1/2 text-xs whitespace-nowrap text-quiet">
              {span(gap * 1000)} later
            </span>
          </>
        ) : (
          <span className="w-0.5 bg-line" />
        )}
      </span>
      <span />
      <div className="min-w-0">{received ? <Words message={message} side="received" sought={sought} /> : null}</div>
      <div className="relative flex justify-center">
        <span className="absolute inset-y-0 w-0.5 bg-line" aria-hidden="true" />
        <time
          dateTime={message.receivedAt}
          title={when(message.receivedAt)}
          className="relative mt-1 h-fit bg-mist px-0.5 text-xs text-quiet"
        >
          {clock(message.receivedAt)}
        </time>
      </div>
      <div className="min-w-0" data-entry data-sought={sought ? "" : undefined}>
        {received ? null : <Words message={message} side="sent" sought={sought} />}
      </div>
    </li>
  )
}

function Words({ message, side, sought }: { message: MessageView; side: "received" | "sent"; sought: boolean }) {
  const stops = message.stops ?? []
  const edge = side === "received" ? "border-r-2 pr-3 text-right items-end" : "border-l-2 pl-3 items-start"
  const needsYou = message.status === "parked"
  const { body } = message as { body: { choices?: { label: string }[]; cards?: { choices?: { label: string }[] }[] } }
  const choices = [...(body.choices ?? []), ...(body.cards ?? []).flatMap((card) => card.choices ?? [])]
  return (
    <div
      className={`flex flex-col gap-1 py-0.5 ${edge} ${needsYou ? "border-damson" : "border-spruce"} ${sought ? "bg-spruce-wash" : ""}`}
    >
      <p className="m-0 max-w-full text-sm whitespace-pre-wrap [overflow-wrap:anywhere]" dir="auto">
        {shown(message.text) || `(${message.event})`}
      </p>
      <Kept message={message} />
      {side === "sent" && choices.length > 0 ? (
        <p className="m-0 flex flex-wrap gap-1 text-xs">
          {choices.map((choice, at) => (
            <span key={at} className="border border-line px-1.5 text-quiet">
              {shown(choice.label)}
            </span>
          ))}
        </p>
      ) : null}
      <Link
        to={`/passages/${message.id}`}
        className="flex min-h-6 flex-wrap items-center gap-x-2 text-xs hover:underline"
      >
        <span className="sr-only">Passage of “{shown(message.text.slice(0, 60))}”:</span>
        <SmallRail stops={stops} />
        <MessageWord message={message} />
        {message.author ? <span className="text-quiet">by {message.author}</span> : null}
        {message.body.simulated ? <span className="border border-line px-1 text-quiet">simulated</span> : null}
        <Because message={message} />
      </Link>
    </div>
  )
}

/** Why it stands where it stands, where that is worth a look: what needs somebody, and what waits for a time. */
function Because({ message }: { message: MessageView }) {
  const { reason, since, until, status } = message
  const needsYou = status === "parked" || status === "retrying" || status === "failed"
  if (!needsYou && !since && !until) return null
  const times = [since && `since ${clock(since)}`, until && `until ${when(until)}`].filter(Boolean).join(", ")
  return (
    <span className={needsYou ? "text-damson" : "text-quiet"}>
      {reason} {times ? `(${times})` : null}
    </span>
  )
}
