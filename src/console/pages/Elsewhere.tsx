import { useEffect } from "react"
import { Link, NavLink, useParams } from "react-router"
import { counted } from "../../client/counted.ts"
import { shown } from "../../client/shown.ts"
import { useWords } from "../../client/modelUse.ts"
import type { EndpointView, ModelView, QueuedView, QueueView } from "../../client/types.ts"
import { Empty, Problem, Waiting } from "../parts/basics.tsx"
import { sentence } from "../parts/Rail.tsx"
import { useData } from "../data.ts"
import { service } from "../service.ts"
import { clock, span, when } from "../time.ts"
import { useTitle } from "../visitor.ts"

/** Milliseconds between two looks: a lease is told by no event. */
const lookEvery = 3000

/** Turns that wait for an answer from elsewhere: at queues, with who holds what, and of endpoints, with how those are. */
export function Elsewhere() {
  useTitle("Elsewhere")
  const { queue } = useParams()
  const queues = useData("queues", () => service.queues())
  const endpoints = useData("endpoints", () => service.endpoints())
  const models = useData("models", () => service.models())
  useEvery(() => {
    queues.again()
    endpoints.again()
    models.again()
  })
  if (!queues.data) return <Waiting error={queues.error} />
  return (
    <div className="mx-auto flex w-full max-w-6xl flex-col gap-6 p-4">
      <header>
        <h1 className="text-lg font-semibold">Elsewhere</h1>
        <p className="text-sm text-quiet">Turns that wait for an answer from a program of yours.</p>
      </header>
      {queues.error ? <Problem error={queues.error} /> : null}
      <section aria-labelledby="queues">
        <h2 id="queues" className="mb-1 text-base font-semibold">
          Queues
        </h2>
        <div className="border border-line bg-paper">
          {queues.data.items.map((one) => (
            <Queue key={one.queue} queue={one} />
          ))}
          {queues.data.items.length === 0 ? <Empty>Nothing waits at any queue.</Empty> : null}
        </div>
      </section>
      {queue === undefined ? null : <Queued name={queue} />}
      <section aria-labelledby="endpoints">
        <h2 id="endpoints" className="mb-1 text-base font-semibold">
          Endpoints and model servers
        </h2>
        {endpoints.error ? <Problem error={endpoints.error} /> : null}
        <div className="border border-line bg-paper">
          {endpoints.data?.items.map((one) => (
            <Endpoint key={one.address} endpoint={one} />
          ))}
          {endpoints.data?.items.length === 0 ? <Empty>No turn waits for one, and none was left alone.</Empty> : null}
        </div>
      </section>
      <section aria-labelledby="models">
        <h2 id="models" className="mb-1 text-base font-semibold">
          Models today
        </h2>
        {models.error ? <Problem error={models.error} /> : null}
        <div className="border border-line bg-paper">
          {models.data?.items.map((one) => (
            <Model key={`${one.bot} ${one.name}`} model={one} />
          ))}
          {models.data?.items.length === 0 ? <Empty>No bot asks a model.</Empty> : null}
        </div>
      </section>
    </div>
  )
}

function useEvery(look: () => void): void {
  useEffect(() => {
    const timer = setInterval(() => {
      if (!document.hidden) look()
    }, lookEvery)
    return () => clearInterval(timer)
  })
}

function Queue({ queue: { queue, waiting, leased, more, oldest } }: { queue: QueueView }) {
  return (
    <NavLink
      to={`/elsewhere/${encodeURIComponent(queue)}`}
      className={({ isActive }) =>
        `flex flex-wrap items-baseline gap-x-6 border-b border-line px-3 py-2 text-sm last:border-b-0 hover:bg-spruce-wash ${isActive ? "bg-spruce-wash" : ""}`
      }
    >
      <span className="mr-auto min-w-0 font-semibold [overflow-wrap:anywhere]">{shown(queue)}</span>
      <span className="tabular-nums">{`${waiting.toLocaleString("en")}${more ? "+" : ""} waiting`}</span>
      <span className="tabular-nums">{leased.toLocaleString("en")} leased</span>
      <span className="text-quiet">{oldest ? `oldest ${ago(oldest)}` : ""}</span>
    </NavLink>
  )
}

const ago = (time: string) => span(Math.max(0, Date.now() - Date.parse(time)))

function Queued({ name }: { name: string }) {
  const { data, error, again } = useData(`queued ${name}`, () => service.queued(name, { limit: 100 }))
  useEvery(again)
  return (
    <section aria-labelledby="queued">
      <h2 id="queued" className="mb-1 text-base font-semibold">
        At the queue {shown(name)}, the longest waiting first
      </h2>
      {error ? <Problem error={error} /> : null}
      <div className="border border-line bg-paper">
        {data?.items.map((turn) => (
          <QueuedTurn key={turn.message} turn={turn} />
        ))}
        {data?.items.length === 0 ? <Empty>Nothing waits here.</Empty> : null}
      </div>
      {data?.next ? (
        <p className="mt-1 text-sm text-quiet">These are the first 100. `wobbet queue show` has them all.</p>
      ) : null}
    </section>
  )
}

function QueuedTurn({ turn }: { turn: QueuedView }) {
  const { conversation, message, text, title, channel, since, until, leases, leasedBy, leasedUntil } = turn
  return (
    <article className="border-b border-line px-3 py-2 text-sm last:border-b-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <Link to={`/conversations/${conversation}`} className="font-semibold underline">
          {shown(title ?? channel)}
        </Link>
        <span className="text-quiet">
          since {when(since)}, until {clock(until)}
        </span>
        <Link to={`/passages/${message}`} className="ml-auto underline">
          its passage
        </Link>
      </div>
      <p dir="auto" className="m-0 [overflow-wrap:anywhere]">
        {shown(text)}
      </p>
      <p className="m-0 text-quiet">
        {leasedBy ? `Held by ${shown(leasedBy)} until ${clock(leasedUntil!)}` : "Held by nobody"}
        {leases > 0 ? `, leased ${leases === 1 ? "once" : counted(leases, "time")} so far` : ""}.
      </p>
    </article>
  )
}

const words: { [state: string]: string } = {
  closed: "asked",
  open: "left alone for a while",
  "half-open": "tried by one call",
}

function Endpoint({ endpoint }: { endpoint: EndpointView }) {
  const { address, state, why, until, waiting, oldest } = endpoint
  const bad = state !== "closed"
  return (
    <article className="border-b border-line px-3 py-2 text-sm last:border-b-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <code className="font-mono text-xs [overflow-wrap:anywhere]">{shown(address)}</code>
        <span className={bad ? "text-damson" : "text-quiet"}>
          <span aria-hidden="true">{bad ? "✕" : "●"}</span> {words[state] ?? state}
          {state === "open" && until ? ` until ${clock(until)}` : ""}
        </span>
        <span className="ml-auto text-quiet">
          {waiting > 0
            ? `${counted(waiting, "turn")} waiting${oldest ? `, oldest ${ago(oldest)}` : ""}`
            : "nothing waits"}
        </span>
      </div>
      {bad && why ? <p className="m-0">{sentence(shown(why))}</p> : null}
    </article>
  )
}

function Model({ model: { bot, name, address, model, askedBy, limits, used } }: { model: ModelView }) {
  return (
    <article className="border-b border-line px-3 py-2 text-sm last:border-b-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <span className="font-semibold [overflow-wrap:anywhere]">{shown(name)}</span>
        <span className="text-quiet [overflow-wrap:anywhere]">
          of {shown(bot)}, asked by {askedBy.length > 0 ? shown(askedBy.join(", ")) : "no route"}
        </span>
        <code className="ml-auto font-mono text-xs [overflow-wrap:anywhere]">{shown(`${model} at ${address}`)}</code>
      </div>
      <p className="m-0 tabular-nums">
        {used === null
          ? "Not counted: it has neither prices nor limits."
          : `Everybody together: ${useWords(used.all, limits?.all)}.`}
      </p>
      {used && limits?.person ? (
        <p className="m-0 text-quiet tabular-nums">Most by one person: {useWords(used.most, limits.person)}.</p>
      ) : null}
    </article>
  )
}
