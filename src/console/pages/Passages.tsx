import { Link, useSearchParams } from "react-router"
import { railWord } from "../../client/rail.ts"
import { shown } from "../../client/shown.ts"
import type { PassageSummary } from "../../client/types.ts"
import { usePages } from "../pagedList.ts"
import { Empty, Fresh, More, Problem, useListKeys } from "../parts/basics.tsx"
import { RailWord, SmallRail } from "../parts/Rail.tsx"
import { service } from "../service.ts"
import { when } from "../time.ts"
import { useTitle } from "../visitor.ts"

const views = [
  { id: "messages", name: "Messages" },
  { id: "stopped", name: "Stopped" },
  { id: "refused", name: "Not genuine" },
  { id: "every", name: "Every call" },
] as const

export function Passages() {
  useTitle("Passages")
  const [search, setSearch] = useSearchParams()
  const view = views.find(({ id }) => id === search.get("view"))?.id ?? "messages"
  const passages = usePages<PassageSummary>({
    key: `passages ${view}`,
    load: (cursor) =>
      service.passages({
        limit: view === "stopped" ? 200 : 50,
        ...(view === "refused" ? { genuine: false } : {}),
        // Statuses come three to a reply; who looks for a message looks past them.
        ...(view === "every" ? {} : { quiet: false }),
        ...(cursor ? { cursor } : {}),
      }),
    id: (item) => item.id,
    place: (item) => item.id,
    concerns: () => true,
  })
  useListKeys(passages.list)
  const looked = passages.items ?? []
  const items = looked.filter(
    (item) => view !== "stopped" || ["needs you", "stopped"].includes(railWord(item.stops).tone),
  )
  return (
    <div className="mx-auto w-full max-w-6xl p-4">
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <h1 className="mr-4 text-lg font-semibold">Passages</h1>
        {views.map(({ id, name }) => (
          <button
            key={id}
            type="button"
            aria-pressed={view === id}
            onClick={() => setSearch(id === "messages" ? {} : { view: id })}
            className={`cursor-pointer rounded-sm border px-2.5 py-1 text-sm ${view === id ? "border-spruce bg-spruce-wash font-semibold" : "border-edge bg-paper"}`}
          >
            {name}
          </button>
        ))}
        <span className="ml-auto text-xs text-quiet">the newest first</span>
      </div>
      {passages.error ? <Problem error={passages.error} /> : null}
      <div className="sticky top-2 z-10 flex h-0 justify-center">
        <Fresh many={passages.fresh} show={passages.showFresh} />
      </div>
      <div ref={passages.list} className="border border-line bg-paper">
        {items.map((passage) => (
          <PassageRow key={passage.id} passage={passage} />
        ))}
        {passages.items && items.length === 0 ? (
          <Empty>
            {view === "messages" || view === "every"
              ? "Nothing has arrived yet."
              : passages.more
                ? `Nothing of this kind among the newest ${looked.length}.`
                : "Nothing of this kind."}
          </Empty>
        ) : null}
      </div>
      {passages.lookedTo ? (
        <p className="mt-3 text-center text-sm text-quiet">Looked as far as {when(passages.lookedTo)} so far.</p>
      ) : null}
      {view === "stopped" && passages.more && items.length > 0 ? (
        <p className="mt-3 text-center text-sm text-quiet">These are among the newest {looked.length} passages.</p>
      ) : null}
      <More more={passages.more} loading={passages.loading} name="Show older" />
    </div>
  )
}

function PassageRow({ passage }: { passage: PassageSummary }) {
  const { why, tone } = railWord(passage.stops)
  return (
    <Link
      to={`/passages/${passage.id}`}
      data-row
      className="grid grid-cols-[auto_1fr] items-center gap-x-4 gap-y-0.5 border-b border-line px-3 py-2 text-sm last:border-b-0 hover:bg-spruce-wash md:grid-cols-[7.5rem_7.5rem_6.5rem_9rem_1fr]"
    >
      <span className="text-quiet">{when(passage.receivedAt)}</span>
      <SmallRail stops={passage.stops} />
      <span>
        <RailWord stops={passage.stops} />
      </span>
      <span className="truncate" dir="auto">
        {shown(passage.title ?? passage.address ?? passage.channel)}
      </span>
      <span className="col-span-2 truncate md:col-span-1" dir="auto">
        {passage.text ? shown(passage.text) : <span className="text-quiet">{passage.event ?? "no message"}</span>}
        {why && (tone === "needs you" || tone === "stopped") ? <span className="text-quiet"> — {why}</span> : null}
      </span>
    </Link>
  )
}
