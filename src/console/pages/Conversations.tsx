import { useEffect, useRef, useState } from "react"
import type { FormEvent } from "react"
import { Link, useParams } from "react-router"
import type { ConversationView, MessageView } from "../../client/types.ts"
import { Button, Copy, Empty, Json, Problem, useListKeys } from "../parts/basics.tsx"
import { MessageWord, SmallRail } from "../parts/Rail.tsx"
import { Kept } from "../parts/Kept.tsx"
import { service, useData } from "../service.ts"
import { clock, span, when } from "../time.ts"

export function Conversations() {
  const { id } = useParams()
  const [text, setText] = useState("")
  const { data, error } = useData(`conversations ${text}`, () =>
    service.conversations({ limit: 100, ...(text ? { text } : {}) }),
  )
  const list = useListKeys()
  const chosen = id ?? data?.items[0]?.id
  return (
    <div className="flex min-h-0 flex-1 flex-col md:h-[calc(100dvh-3.2rem)] md:flex-none md:flex-row">
      <section
        aria-label="Conversations"
        className={`flex w-full flex-col border-line bg-paper md:w-80 md:shrink-0 md:border-r ${id ? "max-md:hidden" : ""}`}
      >
        <div className="border-b border-line p-2">
          <input
            type="search"
            value={text}
            onChange={(event) => setText(event.target.value)}
            placeholder="Name, or provider's id"
            aria-label="Search conversations"
            className="w-full border border-line bg-mist px-2 py-1 text-sm"
          />
        </div>
        {error ? <Problem error={error} /> : null}
        <div ref={list} className="min-h-0 flex-1 overflow-y-auto">
          {data?.items.map((item) => (
            <ConversationRow key={item.id} conversation={item} chosen={item.id === chosen} />
          ))}
          <InGroupsOnly text={text} />
          {data?.items.length === 0 ? <Empty>{text ? "Nobody by that name." : "Nobody has spoken yet."}</Empty> : null}
        </div>
      </section>
      {chosen ? (
        <div className={`min-h-0 min-w-0 flex-1 ${id ? "" : "max-md:hidden"}`}>
          <One key={chosen} id={chosen} />
        </div>
      ) : null}
    </div>
  )
}

function ConversationRow({ conversation, chosen }: { conversation: ConversationView; chosen: boolean }) {
  const kinds: { [kind: string]: string } = { group: "group", broadcast: "broadcast" }
  return (
    <Link
      to={`/conversations/${conversation.id}`}
      data-row
      aria-current={chosen ? "true" : undefined}
      className={`block border-b border-line border-l-4 px-3 py-2 text-sm hover:bg-spruce-wash ${chosen ? "border-l-spruce bg-spruce-wash" : "border-l-transparent"}`}
    >
      <span className="flex items-baseline justify-between gap-2">
        <span className="truncate font-semibold">{conversation.title ?? conversation.address}</span>
        <span className="shrink-0 text-xs text-quiet">{conversation.lastAt ? when(conversation.lastAt) : ""}</span>
      </span>
      <span className="flex items-baseline justify-between gap-2">
        <span className="truncate text-quiet">
          {conversation.lastDirection === "out" ? "ours: " : ""}
          {conversation.lastText}
        </span>
        {conversation.parked > 0 ? (
          <span className="shrink-0 rounded-sm bg-damson px-1.5 text-xs font-semibold text-paper">needs you</span>
        ) : null}
        {conversation.parked === 0 ? (
          <span className="shrink-0 text-xs text-quiet">
            {conversation.channel}
            {kinds[conversation.kind] ? `, ${kinds[conversation.kind]}` : ""}
          </span>
        ) : null}
      </span>
      <span className="block truncate font-mono text-xs text-quiet">{conversation.address}</span>
    </Link>
  )
}

/** Who has spoken in groups only has an id all the same, and can be written to. */
function InGroupsOnly({ text }: { text: string }) {
  const { data } = useData(`people ${text}`, () => service.people({ limit: 200, ...(text ? { text } : {}) }))
  const people = data?.items.filter((item) => item.conversation === null) ?? []
  if (people.length === 0) return null
  return (
    <section aria-label="People who spoke in groups only" className="border-b border-line px-3 py-2 text-sm">
      <h2 className="mb-1 text-xs text-quiet">Spoke in groups only</h2>
      {people.map(({ channel, address, name }) => (
        <p key={`${channel} ${address}`} className="flex items-baseline gap-2">
          <span className="min-w-0 truncate font-semibold">{name ?? address}</span>
          <code className="ml-auto shrink-0 font-mono text-xs">{address}</code>
          <Copy text={address} what={`the id of ${name ?? address}`} />
        </p>
      ))}
    </section>
  )
}

function One({ id }: { id: string }) {
  const conversation = useData(`conversation ${id}`, () => service.conversation(id))
  const said = useData(`said ${id}`, () => service.conversationMessages(id, { limit: 100 }))
  if (conversation.error && !conversation.data)
    return (
      <div className="p-4">
        <Problem error={conversation.error} />
      </div>
    )
  const shown = conversation.data
  if (!shown) return <Empty>One moment …</Empty>
  const again = () => {
    conversation.again()
    said.again()
  }
  return (
    <div className="flex h-full min-h-0 flex-col xl:flex-row">
      <section aria-label="What was said" className="flex min-h-0 min-w-0 flex-1 flex-col">
        <header className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b border-line bg-paper px-4 py-2">
          <Link to="/conversations" className="text-sm underline md:hidden">
            All conversations
          </Link>
          <h1 className="text-lg font-semibold">{shown.title ?? shown.address}</h1>
          <span className="text-sm text-quiet">
            {shown.kind} on {shown.channel}
            {shown.topic ? `, topic ${shown.topic}` : ""}
          </span>
          <span className="flex items-center gap-2 text-xs text-quiet">
            id <code className="font-mono">{shown.address}</code> <Copy text={shown.address} what="the provider's id" />
          </span>
        </header>
        <Ledger messages={said.data?.items ?? []} older={said.data?.next !== null && said.data !== undefined} />
        <AnswerBox id={id} again={again} />
      </section>
      <aside
        aria-label="What is remembered"
        className="shrink-0 border-line bg-paper p-4 max-xl:border-t xl:w-64 xl:border-l"
      >
        <h2 className="mb-2 text-sm font-semibold">State</h2>
        <Json value={shown.state} />
        <div className="mt-3 flex flex-col items-start gap-2 text-sm">
          <Button onClick={() => void service.resetConversation(id).finally(again)}>Forget the state</Button>
          <p className="mt-2">
            {shown.answeredBy === "bot" ? "The bot answers here." : "A person answers here; the bot keeps quiet."}
          </p>
          <Button
            onClick={() => void service.setAnsweredBy(id, shown.answeredBy === "bot" ? "person" : "bot").finally(again)}
          >
            {shown.answeredBy === "bot" ? "Answer it myself" : "Give it back to the bot"}
          </Button>
        </div>
      </aside>
    </div>
  )
}

/** Seconds up to which a gap is drawn to scale; a longer one is folded, and says how long it is. */
const foldAfter = 90

/** Two columns, received and sent, on one time axis with the gaps to scale. */
function Ledger({ messages, older }: { messages: MessageView[]; older: boolean }) {
  const end = useRef<HTMLDivElement>(null)
  const last = messages.at(-1)?.id
  useEffect(() => {
    void end.current?.scrollIntoView({ block: "end" })
  }, [last])
  return (
    <div className="min-h-0 flex-1 overflow-y-auto px-2 py-3 sm:px-4" tabIndex={0} aria-label="Ledger">
      <div className="mx-auto grid max-w-4xl grid-cols-[1fr_4.5rem_1fr] text-xs text-quiet">
        <span className="text-right">theirs</span>
        <span />
        <span>ours</span>
      </div>
      {older ? (
        <p className="py-2 text-center text-xs text-quiet">Older messages: wobbet conversation show, or a search.</p>
      ) : null}
      <ol className="m-0 mx-auto max-w-4xl list-none p-0">
        {messages.map((message, at) => (
          <Entry key={message.id} message={message} before={messages[at - 1]} />
        ))}
      </ol>
      <div ref={end} />
    </div>
  )
}

function Entry({ message, before }: { message: MessageView; before: MessageView | undefined }) {
  const gap = before ? (Date.parse(message.receivedAt) - Date.parse(before.receivedAt)) / 1000 : 0
  const folded = gap > foldAfter
  const height = folded ? 44 : Math.max(4, gap * 1.2)
  const theirs = message.direction === "in"
  return (
    <li className="grid grid-cols-[1fr_4.5rem_1fr]">
      <span />
      <span className="relative flex justify-center" style={{ height }} aria-hidden="true">
        {folded ? (
          <>
            <svg width="14" height={height} viewBox={`0 0 14 ${height}`}>
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
      <div className="min-w-0">{theirs ? <Words message={message} side="theirs" /> : null}</div>
      <div className="relative flex justify-center">
        <span className="absolute inset-y-0 w-0.5 bg-line" aria-hidden="true" />
        <time dateTime={message.receivedAt} className="relative mt-1 h-fit bg-mist px-0.5 text-xs text-quiet">
          {clock(message.receivedAt)}
        </time>
      </div>
      <div className="min-w-0">{theirs ? null : <Words message={message} side="ours" />}</div>
    </li>
  )
}

function Words({ message, side }: { message: MessageView; side: "theirs" | "ours" }) {
  const stops = message.stops ?? []
  const edge = side === "theirs" ? "border-r-2 pr-3 text-right items-end" : "border-l-2 pl-3 items-start"
  const needsYou = message.status === "parked"
  const { body } = message as { body: { choices?: { label: string }[]; cards?: { choices?: { label: string }[] }[] } }
  const choices = [...(body.choices ?? []), ...(body.cards ?? []).flatMap((card) => card.choices ?? [])]
  return (
    <div className={`flex flex-col gap-1 py-0.5 ${edge} ${needsYou ? "border-damson" : "border-spruce"}`}>
      <p className="m-0 max-w-full text-sm whitespace-pre-wrap [overflow-wrap:anywhere]">
        {message.text || `(${message.event})`}
      </p>
      <Kept message={message} />
      {side === "ours" && choices.length > 0 ? (
        <p className="m-0 flex flex-wrap gap-1 text-xs">
          {choices.map((choice) => (
            <span key={choice.label} className="border border-line px-1.5 text-quiet">
              {choice.label}
            </span>
          ))}
        </p>
      ) : null}
      <Link
        to={`/passages/${message.id}`}
        className="flex flex-wrap items-center gap-x-2 text-xs hover:underline"
        aria-label={`Passage of “${message.text.slice(0, 60)}”`}
      >
        <SmallRail stops={stops} />
        <MessageWord message={message} />
        {message.author ? <span className="text-quiet">by {message.author}</span> : null}
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

function AnswerBox({ id, again }: { id: string; again: () => void }) {
  const [text, setText] = useState("")
  const [error, setError] = useState<Error>()
  // One key for one wording: pressing twice, or a lost answer, sends it once.
  const key = useRef(crypto.randomUUID())
  const send = (event?: FormEvent) => {
    event?.preventDefault()
    if (!text.trim()) return
    service.send({ to: id, text }, key.current).then(() => {
      key.current = crypto.randomUUID()
      setText("")
      setError(undefined)
      again()
    }, setError)
  }
  return (
    <form onSubmit={send} className="border-t border-line bg-paper p-3">
      {error ? <Problem error={error} /> : null}
      <div className="mx-auto flex max-w-4xl items-end gap-2">
        <textarea
          value={text}
          rows={Math.min(6, text.split("\n").length)}
          onChange={(event) => setText(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== "Enter" || event.shiftKey || event.nativeEvent.isComposing) return
            event.preventDefault()
            send()
          }}
          placeholder="Answer by hand (light markup; Shift+Enter for a new line)"
          aria-label="Answer by hand"
          className="min-w-0 flex-1 resize-none border border-line bg-mist px-3 py-2 text-sm"
        />
        <Button type="submit" kind="main" disabled={!text.trim()}>
          Send
        </Button>
      </div>
    </form>
  )
}
