import { useState } from "react"
import { Link } from "react-router"
import type { ParkedView } from "../../client/types.ts"
import { Button, Empty, Problem } from "../parts/basics.tsx"
import { sentence } from "../parts/Rail.tsx"
import { service, useData } from "../service.ts"
import { when } from "../time.ts"

export function Parked() {
  const [all, setAll] = useState(false)
  const { data, error, again } = useData(`parked ${all}`, () =>
    service.parked({ limit: 100, ...(all ? { open: false } : {}) }),
  )
  return (
    <div className="mx-auto w-full max-w-6xl p-4">
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <h1 className="text-lg font-semibold">Parked</h1>
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" checked={all} onChange={(event) => setAll(event.target.checked)} /> with what was
          decided
        </label>
      </div>
      {error ? <Problem error={error} /> : null}
      <div className="border border-line bg-paper">
        {data?.items.map((item) => (
          <Row key={item.id} parked={item} again={again} />
        ))}
        {data?.items.length === 0 ? <Empty>Nothing needs you.</Empty> : null}
      </div>
      <Doubts />
    </div>
  )
}

/** Sends of which it was open whether the provider took them: what is known, and what was decided, by whom. */
function Doubts() {
  const { data, error } = useData("doubts", () => service.messages({ doubtful: true, limit: 20 }))
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
                  {item.title ?? item.address ?? item.conversation}
                </Link>
                , {when(item.doubt?.at ?? item.receivedAt)}
              </span>
              <Link to={`/passages/${item.id}`} className="ml-auto underline">
                its passage
              </Link>
            </div>
            <blockquote className="m-0 my-1 border-l-2 border-line pl-3 whitespace-pre-wrap">{item.text}</blockquote>
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

function Row({ parked, again }: { parked: ParkedView; again: () => void }) {
  const [error, setError] = useState<Error>()
  const [draft, setDraft] = useState<string>()
  const act = (run: Promise<unknown>) => void run.catch(setError).finally(again)
  return (
    <article className="border-b border-line px-4 py-3 text-sm last:border-b-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <strong className={parked.decision ? "" : "text-damson"}>{parked.cause}</strong>
        <span className="text-quiet">
          {parked.cause === "doubt" ? "perhaps sent" : parked.what === "send" ? "not sent" : "not answered"},{" "}
          {when(parked.since)},{" "}
          <Link to={`/conversations/${parked.conversation}`} className="underline">
            {parked.title ?? parked.address}
          </Link>
        </span>
        <Link to={`/passages/${parked.message}`} className="ml-auto underline">
          its passage
        </Link>
      </div>
      <blockquote className="m-0 my-1 border-l-2 border-line pl-3 whitespace-pre-wrap">{parked.text}</blockquote>
      <p className="mb-2">
        {sentence(parked.reason)} {parked.decision ? `${parked.decidedBy} chose to ${parked.decision}.` : parked.remedy}
      </p>
      {error ? <Problem error={error} /> : null}
      {draft !== undefined ? (
        <span className="mb-2 flex gap-2">
          <textarea
            value={draft}
            rows={3}
            onChange={(event) => setDraft(event.target.value)}
            aria-label="Other words"
            className="flex-1 border border-line bg-mist px-2 py-1"
          />
          <Button kind="main" onClick={() => act(service.editParked(parked.id, draft))}>
            Send these
          </Button>
        </span>
      ) : null}
      {parked.decision ? null : (
        <span className="flex gap-2">
          <Button onClick={() => act(service.retryParked(parked.id))}>Retry</Button>
          {parked.what === "send" ? (
            <Button onClick={() => setDraft(draft === undefined ? parked.text : undefined)}>Edit</Button>
          ) : null}
          <Button onClick={() => act(service.dropParked(parked.id))}>Drop</Button>
        </span>
      )}
    </article>
  )
}
