import { Link, useParams, useSearchParams } from "react-router"
import { shown } from "../../client/shown.ts"
import type { ConversationView, MessageView } from "../../client/types.ts"
import { useData } from "../data.ts"
import { usePages } from "../pagedList.ts"
import { Copy, Empty, Fresh, More, Problem, useListKeys } from "../parts/basics.tsx"
import { Conversation } from "../parts/Conversation.tsx"
import { SearchBox } from "../parts/SearchBox.tsx"
import { service } from "../service.ts"
import { when } from "../time.ts"
import { useTitle } from "../visitor.ts"

export function Conversations() {
  const { id } = useParams()
  const [search] = useSearchParams()
  useTitle(id ? undefined : "Conversations")
  return (
    <div className="flex min-h-0 flex-1 flex-col md:flex-row">
      <Found id={id} words={search.get("q") ?? ""} />
      <div className={`flex min-h-0 min-w-0 flex-1 flex-col ${id ? "" : "max-md:hidden"}`}>
        {id ? (
          <Conversation key={`${id} ${search.get("at") ?? ""}`} id={id} at={Number(search.get("at")) || undefined} />
        ) : (
          <Empty>Choose a conversation. Nothing is opened by itself, so that no answer goes to somebody else.</Empty>
        )}
      </div>
    </div>
  )
}

/** All conversations, or those that a search found. */
function Found({ id, words }: { id: string | undefined; words: string }) {
  const [search, setSearch] = useSearchParams()
  const waiting = search.has("waiting")
  const found = usePages<ConversationView>({
    key: `conversations ${words} ${waiting}`,
    load: (cursor) =>
      service.conversations({
        limit: 100,
        ...(waiting ? { waiting } : {}),
        ...(words && !waiting ? { text: words } : {}),
        ...(cursor ? { cursor } : {}),
      }),
    id: (item) => item.id,
    place: (item) => item.lastMessage,
    concerns: ({ conversations, parked, channels }) => conversations.size > 0 || parked || channels,
  })
  useListKeys(found.list)
  const tail = waiting ? "?waiting=" : words ? `?q=${encodeURIComponent(words)}` : ""
  return (
    <section
      aria-label="Conversations"
      className={`relative flex min-h-0 w-full flex-1 flex-col border-line bg-paper md:w-80 md:flex-none md:border-r ${id ? "max-md:hidden" : ""}`}
    >
      {id ? null : <h1 className="sr-only">Conversations</h1>}
      <SearchBox
        words={words}
        placeholder="Name, id, or words that were said"
        label="Search by name, id, or words that were said"
      />
      <label className="flex items-center gap-2 border-b border-line px-3 py-1.5 text-sm">
        <input
          type="checkbox"
          checked={waiting}
          onChange={(event) => setSearch(event.target.checked ? { waiting: "" } : {}, { replace: true })}
        />
        only where a person answers
      </label>
      {found.error ? <Problem error={found.error} /> : null}
      <div className="absolute top-14 z-10 flex w-full justify-center">
        <Fresh many={found.fresh} show={found.showFresh} />
      </div>
      <div ref={found.list} className="min-h-0 flex-1 overflow-y-auto">
        {found.items?.map((item) => (
          <ConversationRow key={item.id} conversation={item} chosen={item.id === id} tail={tail} />
        ))}
        {found.items?.length === 0 ? (
          <Empty>
            {waiting
              ? "Nobody waits for a person."
              : words
                ? "No conversation by that name or id."
                : "Nobody has spoken yet."}
          </Empty>
        ) : null}
        {found.lookedTo ? (
          <p className="px-3 py-2 text-xs text-quiet">Looked as far as {when(found.lookedTo)} so far.</p>
        ) : null}
        <More more={found.more} loading={found.loading} name="Show more" />
        {found.items && !found.more && !waiting ? <InGroupsOnly text={words} /> : null}
        {words.trim().length > 1 && !waiting ? <Said words={words} chosen={id} /> : null}
      </div>
    </section>
  )
}

const placeWords: { [kind: string]: string } = { group: "group", broadcast: "broadcast" }

function ConversationRow({
  conversation,
  chosen,
  tail,
}: {
  conversation: ConversationView
  chosen: boolean
  tail: string
}) {
  return (
    <Link
      to={`/conversations/${conversation.id}${tail}`}
      data-row
      aria-current={chosen ? "true" : undefined}
      className={`block border-b border-line border-l-4 px-3 py-2 text-sm [contain-intrinsic-size:auto_4.3rem] [content-visibility:auto] hover:bg-spruce-wash ${chosen ? "border-l-spruce bg-spruce-wash" : "border-l-transparent"}`}
    >
      <span className="flex items-baseline justify-between gap-2">
        <span className="truncate font-semibold" dir="auto">
          {shown(conversation.title ?? conversation.address)}
        </span>
        <span className="shrink-0 text-xs text-quiet">{conversation.lastAt ? when(conversation.lastAt) : ""}</span>
      </span>
      <span className="flex items-baseline justify-between gap-2">
        <span className="truncate text-quiet" dir="auto">
          {conversation.lastDirection === "out" ? "sent: " : ""}
          {conversation.forgottenAt ? "(forgotten)" : shown(conversation.lastText ?? "")}
        </span>
        {conversation.answeredBy === "person" ? (
          <span
            className={`shrink-0 rounded-sm px-1.5 text-xs font-semibold ${conversation.takenBy ? "border border-line text-quiet" : "bg-damson text-paper"}`}
          >
            {conversation.takenBy ? shown(conversation.takenBy) : "waits for you"}
          </span>
        ) : conversation.parked > 0 ? (
          <span className="shrink-0 rounded-sm bg-damson px-1.5 text-xs font-semibold text-paper">needs you</span>
        ) : (
          <span className="shrink-0 text-xs text-quiet">
            {conversation.channel}
            {placeWords[conversation.kind] ? `, ${placeWords[conversation.kind]}` : ""}
          </span>
        )}
      </span>
      <span className="block truncate font-mono text-xs text-quiet">{shown(conversation.address)}</span>
    </Link>
  )
}

/** Who has spoken in groups only has an id all the same, and can be written to. */
function InGroupsOnly({ text }: { text: string }) {
  const { data } = useData(
    `people ${text}`,
    () => service.people({ limit: 200, ...(text ? { text } : {}) }),
    ({ said }) => said.size > 0,
  )
  const people = data?.items.filter((item) => item.conversation === null) ?? []
  if (people.length === 0) return null
  return (
    <section aria-label="People who spoke in groups only" className="border-b border-line px-3 py-2 text-sm">
      <h2 className="mb-1 text-xs text-quiet">Spoke in groups only</h2>
      {people.map(({ channel, address, name }) => (
        <p key={`${channel} ${address}`} className="flex items-baseline gap-2">
          <span className="min-w-0 truncate font-semibold" dir="auto">
            {shown(name ?? address)}
          </span>
          <code className="ml-auto shrink-0 font-mono text-xs">{shown(address)}</code>
          <Copy text={address} what={`the id of ${shown(name ?? address)}`} />
        </p>
      ))}
    </section>
  )
}

/** Messages in which all of the words were said; one press opens the conversation there. */
function Said({ words, chosen }: { words: string; chosen: string | undefined }) {
  const found = usePages<MessageView>({
    key: `said words ${words}`,
    load: (cursor) => service.messages({ text: words, limit: 30, ...(cursor ? { cursor } : {}) }),
    id: (item) => item.id,
    place: (item) => item.id,
    // What was found stays as it is while it is looked through.
    concerns: () => false,
  })
  return (
    <section aria-label="Messages with these words" className="text-sm">
      <h2 className="border-b border-line bg-mist px-3 py-1 text-xs text-quiet">Messages with these words</h2>
      {found.error ? <Problem error={found.error} /> : null}
      {found.items?.map((message) => (
        <Link
          key={message.id}
          to={`/conversations/${message.conversation}?q=${encodeURIComponent(words)}&at=${message.position}`}
          data-row
          className={`block border-b border-line border-l-4 px-3 py-2 hover:bg-spruce-wash ${message.conversation === chosen ? "border-l-spruce" : "border-l-transparent"}`}
        >
          <span className="flex items-baseline justify-between gap-2 text-xs text-quiet">
            <span className="truncate" dir="auto">
              {message.direction === "in" ? "from" : "to"} {shown(message.title ?? message.address ?? message.channel)}
            </span>
            <span className="shrink-0">{when(message.receivedAt)}</span>
          </span>
          <span className="line-clamp-2 [overflow-wrap:anywhere]" dir="auto">
            {shown(message.text)}
          </span>
        </Link>
      ))}
      {found.items?.length === 0 ? <p className="px-3 py-2 text-xs text-quiet">None.</p> : null}
      {found.lookedTo ? (
        <p className="px-3 py-2 text-xs text-quiet">Looked as far as {when(found.lookedTo)} so far.</p>
      ) : null}
      <More more={found.more} loading={found.loading} name="Show older" />
    </section>
  )
}
