import { useState } from "react"
import { Link } from "react-router"
import type { PassageSummary } from "../../client/types.ts"
import { railWord } from "../../client/rail.ts"
import { Button, Empty, Problem, useListKeys } from "../parts/basics.tsx"
import { RailWord, SmallRail } from "../parts/Rail.tsx"
import { service, useData } from "../service.ts"
import { when } from "../time.ts"

const views = [
  { id: "messages", name: "Messages" },
  { id: "stopped", name: "Stopped" },
  { id: "refused", name: "Not genuine" },
  { id: "every", name: "Every call" },
] as const

export function Passages() {
  const [view, setView] = useState<(typeof views)[number]["id"]>("messages")
  const [most, setMost] = useState(50)
  const { data, error } = useData(`passages ${view} ${most}`, () =>
    service.passages({
      limit: most,
      ...(view === "refused" ? { genuine: false } : {}),
      // Statuses come three to a reply; who looks for a message looks past them.
      ...(view === "every" ? {} : { quiet: false }),
    }),
  )
  const list = useListKeys()
  const items = (data?.items ?? []).filter(
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
            onClick={() => setView(id)}
            className={`cursor-pointer rounded-sm border px-2.5 py-1 text-sm ${view === id ? "border-spruce bg-spruce-wash font-semibold" : "border-line bg-paper"}`}
          >
            {name}
          </button>
        ))}
        <span className="ml-auto text-xs text-quiet">live, the newest first</span>
      </div>
      {error ? <Problem error={error} /> : null}
      <div ref={list} className="border border-line bg-paper">
        {items.map((passage) => (
          <PassageRow key={passage.id} passage={passage} />
        ))}
        {data && items.length === 0 ? (
          <Empty>
            {view === "messages" || view === "every" ? "Nothing has arrived yet." : "Nothing of this sort. Good."}
          </Empty>
        ) : null}
      </div>
      {data?.lookedTo ? (
        <p className="mt-3 text-center text-sm text-quiet">
          Looked as far as {when(data.lookedTo)} in the time one search has.
        </p>
      ) : null}
      {data?.next && most < 200 ? (
        <div className="mt-3 text-center">
          <Button onClick={() => setMost(Math.min(most + 50, 200))}>Show older</Button>
        </div>
      ) : null}
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
      <span className="truncate">{passage.title ?? passage.address ?? passage.channel}</span>
      <span className="col-span-2 truncate md:col-span-1">
        {passage.text ? passage.text : <span className="text-quiet">{passage.event ?? "no message"}</span>}
        {why && (tone === "needs you" || tone === "stopped") ? <span className="text-quiet"> — {why}</span> : null}
      </span>
    </Link>
  )
}
