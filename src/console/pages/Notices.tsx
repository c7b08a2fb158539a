import { useState } from "react"
import type { FormEvent } from "react"
import { Link, NavLink, useParams } from "react-router"
import { shown } from "../../client/shown.ts"
import type { NoticeGiven, NoticeTried, NoticeView, RecipientView } from "../../client/types.ts"
import { Button, Empty, field, Json, Problem, Waiting } from "../parts/basics.tsx"
import { useData } from "../data.ts"
import { service } from "../service.ts"
import { when } from "../time.ts"
import { useTitle } from "../visitor.ts"

/** What applications have told, and whom; with a try-out that says nothing. */
export function Notices() {
  useTitle("Notices")
  const { id } = useParams()
  const { data, error } = useData("notices", () => service.notices({ limit: 50 }))
  if (!data) return <Waiting error={error} />
  return (
    <div className="mx-auto flex w-full max-w-6xl flex-col gap-6 p-4">
      <header>
        <h1 className="text-lg font-semibold">Notices</h1>
        <p className="text-sm text-quiet">What applications have told, and whom it was told.</p>
      </header>
      {error ? <Problem error={error} /> : null}
      <section aria-labelledby="told">
        <h2 id="told" className="mb-1 text-base font-semibold">
          Told, the newest first
        </h2>
        <div className="border border-line bg-paper">
          {data.items.map((one) => (
            <Notice key={one.id} notice={one} />
          ))}
          {data.items.length === 0 ? <Empty>No application has told anything yet.</Empty> : null}
        </div>
        {data.next ? (
          <p className="mt-1 text-sm text-quiet">These are the newest 50. `wobbet notice list` has them all.</p>
        ) : null}
      </section>
      {id === undefined ? null : <Recipients id={id} />}
      <TryOut />
    </div>
  )
}

function Notice({ notice }: { notice: NoticeView }) {
  const { id, type, at, by, said, waiting, refused, failed, unmatched, data } = notice
  const missed = refused + failed + unmatched
  return (
    <NavLink
      to={`/notices/${id}`}
      className={({ isActive }) =>
        `flex flex-wrap items-baseline gap-x-6 border-b border-line px-3 py-2 text-sm last:border-b-0 hover:bg-spruce-wash ${isActive ? "bg-spruce-wash" : ""}`
      }
    >
      <span className="font-semibold [overflow-wrap:anywhere]">{shown(type)}</span>
      <span className="min-w-0 flex-1 basis-48 truncate text-quiet">{shown(summary(data))}</span>
      <span className="tabular-nums">{said.toLocaleString("en")} told</span>
      {waiting > 0 ? <span className="tabular-nums">{waiting.toLocaleString("en")} waiting</span> : null}
      {missed > 0 ? <span className="text-damson tabular-nums">{missed.toLocaleString("en")} not told</span> : null}
      <span className="text-quiet">
        {when(at)}, by {shown(by)}
      </span>
    </NavLink>
  )
}

const summary = (data: { [name: string]: unknown }) =>
  Object.entries(data)
    .slice(0, 4)
    .map(([name, value]) => `${name}: ${typeof value === "object" ? JSON.stringify(value) : String(value)}`)
    .join(", ")
    .slice(0, 160)

function Recipients({ id }: { id: string }) {
  const notice = useData(`notice ${id}`, () => service.notice(id))
  const { data, error } = useData(`recipients ${id}`, () => service.recipients(id, { limit: 100 }))
  return (
    <section aria-labelledby="whom">
      <h2 id="whom" className="mb-1 text-base font-semibold">
        Whom it is told
      </h2>
      {notice.error ? <Problem error={notice.error} /> : null}
      {error ? <Problem error={error} /> : null}
      {notice.data ? <Json value={notice.data.data} /> : null}
      <div className="mt-2 border border-line bg-paper">
        {data?.items.map((one) => (
          <Recipient key={one.id} recipient={one} />
        ))}
        {data?.items.length === 0 ? <Empty>Nobody: no notice of the bot names anybody for it.</Empty> : null}
      </div>
      {data?.next ? (
        <p className="mt-1 text-sm text-quiet">These are the first 100. `wobbet notice show {id}` has them all.</p>
      ) : null}
    </section>
  )
}

function Recipient({ recipient }: { recipient: RecipientView }) {
  const { name, named, channel, conversation, state, why, due, message, like = [] } = recipient
  const bad = state === "unmatched" || state === "failed" || state === "refused"
  return (
    <article className="border-b border-line px-3 py-2 text-sm last:border-b-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        {conversation ? (
          <Link to={`/conversations/${conversation}`} className="font-semibold underline">
            {shown(name ?? named ?? "Somebody")}
          </Link>
        ) : (
          <span className="font-semibold">{shown(name ?? named ?? "Somebody")}</span>
        )}
        <span className={bad ? "text-damson" : "text-quiet"}>
          {state}
          {channel ? ` on ${shown(channel)}` : ""}
          {due ? ` until ${when(due)}` : ""}
          {why ? `: ${shown(why)}` : ""}
        </span>
        {message ? (
          <Link to={`/passages/${message}`} className="ml-auto underline">
            its passage
          </Link>
        ) : null}
      </div>
      {like.map(({ contact, name: other, would }) => (
        <p key={contact} className="m-0 text-quiet">
          <Link to={`/people/${contact}`} className="underline">
            {shown(other ?? contact)}
          </Link>{" "}
          would match: {shown(would)}.
        </p>
      ))}
    </article>
  )
}

/** Shows what would be said of an event, and to whom. */
function TryOut() {
  const [type, setType] = useState("")
  const [data, setData] = useState("{}")
  const [tried, setTried] = useState<NoticeTried>()
  const [error, setError] = useState<Error>()
  const tryIt = (event: FormEvent) => {
    event.preventDefault()
    setTried(undefined)
    setError(undefined)
    let given: NoticeGiven
    try {
      given = { type: type.trim(), data: JSON.parse(data) as { [name: string]: unknown } }
    } catch (fault) {
      setError(new Error(`The data cannot be read as JSON: ${(fault as Error).message}.`))
      return
    }
    service.tryNotice(given).then(setTried, setError)
  }
  return (
    <section aria-labelledby="try">
      <h2 id="try" className="mb-1 text-base font-semibold">
        Try it out
      </h2>
      <p className="mb-2 text-sm text-quiet">Shows what would be said, and to whom. Nothing is said.</p>
      <form onSubmit={tryIt} className="flex flex-col gap-2 sm:flex-row sm:items-end">
        <label className="flex flex-col gap-1 text-sm">
          The event's type
          <input
            className={field}
            required
            maxLength={200}
            placeholder="claim.taken"
            value={type}
            onChange={(event) => setType(event.target.value)}
          />
        </label>
        <label className="flex grow flex-col gap-1 text-sm">
          Its data, as JSON
          <textarea
            className={`${field} h-8 font-mono text-xs`}
            value={data}
            onChange={(event) => setData(event.target.value)}
          />
        </label>
        <Button type="submit" kind="main">
          Show it
        </Button>
      </form>
      <div aria-live="polite" className="mt-2">
        {error ? <Problem error={error} /> : null}
        {tried ? <Tried tried={tried} /> : null}
      </div>
    </section>
  )
}

function Tried({ tried: { told, not, count } }: { tried: NoticeTried }) {
  return (
    <div className="border border-line bg-paper">
      <p className="m-0 border-b border-line px-3 py-2 text-sm">
        {count === 0 ? "Nobody would be told." : `${count.toLocaleString("en")} would be told.`}
      </p>
      {told.map(({ conversation, name, channel, part, until }) => (
        <div key={conversation ?? channel} className="border-b border-line px-3 py-2 text-sm last:border-b-0">
          <b>{shown(name ?? "Somebody")}</b> on {shown(channel)}
          {until ? `, after the quiet hours, at ${when(until)}` : ""}
          <p dir="auto" className="m-0 whitespace-pre-wrap [overflow-wrap:anywhere]">
            {shown(typeof part.text === "string" ? part.text : "")}
          </p>
          {Array.isArray(part.choices) ? (
            <p className="m-0 text-quiet">
              {(part.choices as { label: string }[]).map(({ label }) => `[${shown(label)}]`).join(" ")}
            </p>
          ) : null}
        </div>
      ))}
      {not.map(({ named, why }) => (
        <p key={named + why} className="m-0 border-b border-line px-3 py-2 text-sm text-damson last:border-b-0">
          Not told: {shown(named)}: {shown(why)}
        </p>
      ))}
    </div>
  )
}
