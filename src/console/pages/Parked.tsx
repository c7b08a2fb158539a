import { useState } from "react"
import { Link, useSearchParams } from "react-router"
import { shown } from "../../client/shown.ts"
import type { ParkedView } from "../../client/types.ts"
import { Button, Empty, field, Fresh, More, Problem } from "../parts/basics.tsx"
import { sentence } from "../parts/Rail.tsx"
import { Sure } from "../parts/Sure.tsx"
import { useAct, useData } from "../data.ts"
import { usePages } from "../pagedList.ts"
import { service } from "../service.ts"
import { useMay, useTitle } from "../visitor.ts"
import { when } from "../time.ts"

export function Parked() {
  useTitle("Parked")
  const [search, setSearch] = useSearchParams()
  const all = search.has("all")
  const parked = usePages<ParkedView>({
    key: `parked ${all}`,
    load: (cursor) => service.parked({ limit: 100, ...(all ? { open: false } : {}), ...(cursor ? { cursor } : {}) }),
    id: (item) => item.id,
    place: (item) => item.id,
    concerns: (happened) => happened.parked || happened.channels,
  })
  return (
    <div className="mx-auto w-full max-w-6xl p-4">
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <h1 className="text-lg font-semibold">Parked</h1>
        <label className="flex items-center gap-2 text-sm">
          <input
            type="checkbox"
            checked={all}
            onChange={(event) => setSearch(event.target.checked ? { all: "" } : {})}
          />{" "}
          with what was decided
        </label>
      </div>
      {parked.error ? <Problem error={parked.error} /> : null}
      <div className="sticky top-2 z-10 flex h-0 justify-center">
        <Fresh many={parked.fresh} show={parked.showFresh} />
      </div>
      <div ref={parked.list} className="border border-line bg-paper">
        {parked.items?.map((item) => (
          <Row key={item.id} parked={item} />
        ))}
        {parked.items?.length === 0 ? <Empty>Nothing needs you.</Empty> : null}
      </div>
      <More more={parked.more} loading={parked.loading} name="Show older" />
      <Doubts />
    </div>
  )
}

/** Sends of which it was open whether the provider took them: what is known, and what was decided, by whom. */
function Doubts() {
  const { data, error } = useData(
    "doubts",
    () => service.messages({ doubtful: true, limit: 20 }),
    ({ messages }) => messages.size > 0,
  )
  if (!error && !data?.items.length) return null
  return (
    <section aria-labelledby="doubts" className="mt-8">
      <h2 id="doubts" className="mb-1 text-base font-semibold">
        Doubts
      </h2>
      <p className="mb-2 text-sm text-quiet">
        Replies of which a crash or a vanished answer left open whether the provider took them.
      </p>
      {error ? <Problem error={error} /> : null}
      <div className="border border-line bg-paper">
        {data?.items.map((item) => (
          <article key={item.id} className="border-b border-line px-4 py-3 text-sm last:border-b-0">
            <div className="flex flex-wrap items-baseline gap-x-3">
              <span className="text-quiet">
                to{" "}
                <Link to={`/conversations/${item.conversation}`} className="underline">
                  {shown(item.title ?? item.address ?? item.conversation)}
                </Link>
                , {when(item.doubt?.at ?? item.receivedAt)}
              </span>
              <Link to={`/passages/${item.id}`} className="ml-auto underline">
                its passage
              </Link>
            </div>
            <blockquote dir="auto" className="m-0 my-1 border-l-2 border-line pl-3 whitespace-pre-wrap">
              {shown(item.text)}
            </blockquote>
            <dl className="m-0 mt-1 grid grid-cols-[5rem_1fr] gap-x-3">
              <dt className="text-quiet">known</dt>
              <dd className="m-0">{sentence(item.doubt?.known ?? "")}</dd>
              <dt className="text-quiet">decided</dt>
              <dd className={`m-0 ${item.doubt?.open ? "text-damson" : ""}`}>{sentence(item.doubt?.decided ?? "")}</dd>
            </dl>
          </article>
        ))}
      </div>
    </section>
  )
}

/** What somebody should know before they drop something. */
export function dropAsks(what: ParkedView["what"]): string {
  return what === "send"
    ? "Drop this reply? It is never sent; it stays on record as dropped."
    : "Drop this message? It is never answered; it stays on record as dropped."
}

function Row({ parked }: { parked: ParkedView }) {
  const { act, busy, error } = useAct()
  const operator = useMay("operator")
  const [draft, setDraft] = useState<string>()
  const [decided, setDecided] = useState<string>()
  const decide = (words: string) => () => {
    setDraft(undefined)
    setDecided(words)
  }
  return (
    <article
      aria-label={`Parked: ${shown(parked.text.slice(0, 60)) || parked.cause}`}
      className="border-b border-line px-4 py-3 text-sm last:border-b-0"
    >
      <div className="flex flex-wrap items-baseline gap-x-3">
        <strong className={parked.decision ? "" : "text-damson"}>{parked.cause}</strong>
        <span className="text-quiet">
          {parked.cause === "doubt" ? "perhaps sent" : parked.what === "send" ? "not sent" : "not answered"},{" "}
          {when(parked.since)},{" "}
          <Link to={`/conversations/${parked.conversation}`} className="underline" dir="auto">
            {shown(parked.title ?? parked.address ?? "")}
          </Link>
        </span>
        <Link to={`/passages/${parked.message}`} className="ml-auto underline">
          its passage
        </Link>
      </div>
      <blockquote
        dir="auto"
        className="m-0 my-1 border-l-2 border-line pl-3 whitespace-pre-wrap [overflow-wrap:anywhere]"
      >
        {shown(parked.text)}
      </blockquote>
      <p className="mb-2">
        {sentence(shown(parked.reason))}{" "}
        {parked.decision ? `${parked.decidedBy} chose to ${parked.decision}.` : parked.remedy}
      </p>
      {error ? <Problem error={error} /> : null}
      {draft !== undefined ? (
        <span className="mb-2 flex gap-2">
          <textarea
            value={draft}
            rows={3}
            onChange={(event) => setDraft(event.target.value)}
            aria-label="Other words"
            dir="auto"
            className={`flex-1 ${field}`}
          />
          <Button
            kind="main"
            disabled={busy}
            onClick={() => act(() => service.editParked(parked.id, draft), decide("The other words are in line."))}
          >
            Send these
          </Button>
        </span>
      ) : null}
      {decided ? (
        <p role="status" className="font-semibold">
          {decided}
        </p>
      ) : null}
      {parked.decision || decided || !operator ? null : (
        <span className="flex flex-wrap items-start gap-2">
          <Button
            disabled={busy}
            onClick={() =>
              act(() => service.retryParked(parked.id), decide("It is tried again, at the end of its line."))
            }
          >
            Retry
          </Button>
          {parked.what === "send" ? (
            <Button onClick={() => setDraft(draft === undefined ? parked.text : undefined)}>
              {draft === undefined ? "Edit" : "Leave it as it is"}
            </Button>
          ) : null}
          <Sure
            act="Drop"
            asks={dropAsks(parked.what)}
            run={() => service.dropParked(parked.id)}
            done={decide("Dropped.")}
          />
        </span>
      )}
    </article>
  )
}
