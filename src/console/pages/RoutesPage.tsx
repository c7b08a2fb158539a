import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react"
import { useEffect, useState } from "react"
import type { ReactNode } from "react"
import { Link, useSearchParams } from "react-router"
import { counted } from "../../client/counted.ts"
import { shown } from "../../client/shown.ts"
import type { Explanation, RouteView, UnroutedGroup } from "../../client/types.ts"
import { Copy, Empty, field, Problem, Waiting } from "../parts/basics.tsx"
import { SmallRail, sentence } from "../parts/Rail.tsx"
import { useData } from "../data.ts"
import { service } from "../service.ts"
import { span, when } from "../time.ts"
import { useTitle } from "../visitor.ts"

const days = 7
const lately = 3

/** The bot's routes in order, with what each does; a box to try a text; and what none took, grouped by likeness. */
export function RoutesPage() {
  useTitle("Routes")
  const { data, error } = useData(
    "routes",
    () => service.routes(days),
    ({ messages }) => messages.size > 0,
  )
  if (!data) return <Waiting error={error} />
  return (
    <div className="mx-auto flex w-full max-w-6xl flex-col gap-6 p-4">
      <header className="flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-lg font-semibold">Routes of {data.bot}</h1>
        <span className="text-sm text-quiet">
          {counted(data.routes.filter(({ gone }) => !gone).length, "route")}; the last {days} days
        </span>
        <span className="font-mono text-xs text-quiet">release {data.release}</span>
      </header>
      {error ? <Problem error={error} /> : null}
      <TryBox />
      <section aria-label="The routes in order" className="border border-line bg-paper">
        <Heads />
        {data.routes.map((route, at) => (
          <Row key={route.route} route={route} at={route.gone ? undefined : at + 1} />
        ))}
        <Row route={data.unrouted} at={undefined} />
      </section>
      <Groups />
    </div>
  )
}

const columns =
  "grid-cols-[2rem_minmax(0,1fr)_6rem] md:grid-cols-[2rem_minmax(0,1fr)_7.5rem_4rem_3.5rem_4.5rem_5rem_8rem]"

function Heads() {
  const wide = "hidden text-right md:block"
  return (
    <div className={`grid ${columns} gap-x-3 border-b border-line px-3 py-1.5 text-xs text-quiet`} aria-hidden="true">
      <span />
      <span>route</span>
      <span>hits over time</span>
      <span className={wide}>hits</span>
      <span className={wide}>share</span>
      <span className={wide}>failures</span>
      <span className={wide}>slowest</span>
      <span className="hidden md:block">last</span>
    </div>
  )
}

function Row({ route, at }: { route: RouteView; at: number | undefined }) {
  const [search, setSearch] = useSearchParams()
  const name = route.route === "" ? "unrouted" : route.route
  const open = search.get("route") === route.route
  const wide = "hidden text-right md:block"
  return (
    <div className="border-b border-line text-sm last:border-b-0">
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setSearch(open ? {} : { route: route.route }, { replace: true })}
        className={`grid w-full ${columns} items-center gap-x-3 px-3 py-2 text-left hover:bg-spruce-wash`}
      >
        <span className="text-right text-xs text-quiet">{at ?? ""}</span>
        <span className="min-w-0">
          <span className={route.route === "" || route.gone ? "italic" : "font-semibold"}>{shown(name)}</span>
          <span className="ml-2 text-quiet">
            {route.gone ? "no longer in the release" : route.handler ? `→ ${route.handler}` : "nobody answers"}
          </span>
          {route.when ? <span className="block truncate text-xs text-quiet">{shown(route.when)}</span> : null}
          {route.notes.map((note) => (
            <span key={note.says} className="block text-damson">
              {sentence(shown(note.says))} {note.remedy ? shown(note.remedy) : ""}
            </span>
          ))}
        </span>
        <Bars chart={route.chart} name={name} />
        <span className={wide}>{route.hits.toLocaleString("en")}</span>
        <span className={wide}>{route.hits === 0 ? "" : `${Math.max(1, Math.round(route.share * 100))} %`}</span>
        <span className={`${wide} ${route.failures > 0 ? "font-semibold text-damson" : "text-quiet"}`}>
          {route.failures > 0 ? route.failures.toLocaleString("en") : "none"}
        </span>
        <span className={wide}>{route.slowest === null ? "" : span(route.slowest)}</span>
        <span className="hidden text-xs text-quiet md:block">{route.lastAt ? when(route.lastAt) : "never"}</span>
      </button>
      {open ? <Latest route={route} /> : null}
    </div>
  )
}

/** Hits by step, drawn as bars of one colour; said in words for those who do not see them. */
function Bars({ chart, name }: { chart: number[]; name: string }) {
  const most = Math.max(1, ...chart)
  const width = 100 / chart.length
  const all = chart.reduce((sum, hits) => sum + hits, 0)
  return (
    <svg
      viewBox="0 0 100 24"
      preserveAspectRatio="none"
      role="img"
      aria-label={`${name}: ${counted(all, "hit")} in ${days} days, at most ${most === 1 && all === 0 ? 0 : most} in ${Math.round((days * 24) / chart.length)} h`}
      className="h-6 w-full"
    >
      <line x1="0" y1="23.5" x2="100" y2="23.5" className="stroke-line" strokeWidth="1" />
      {chart.map((hits, at) => {
        const height = hits === 0 ? 0 : Math.max(2, (hits / most) * 22)
        return (
          <rect
            key={at}
            x={at * width + width * 0.1}
            y={23 - height}
            width={width * 0.8}
            height={height}
            className="fill-spruce"
          />
        )
      })}
    </svg>
  )
}

/** The newest messages a route took, each with its passage. */
function Latest({ route }: { route: RouteView }) {
  const { data, error } = useData(
    `messages of ${route.route}`,
    () =>
      service.messages({
        direction: "in",
        limit: 8,
        ...(route.route === "" ? { status: "unrouted" } : { route: route.route }),
      }),
    ({ messages }) => messages.size > 0,
  )
  return (
    <div className="border-t border-line bg-mist px-3 py-2 pl-11">
      {error ? <Problem error={error} /> : null}
      {data?.items.map((item) => (
        <MessageLink key={item.id} id={item.id} at={item.receivedAt} text={item.text || `(${item.event})`}>
          {item.stops ? <SmallRail stops={item.stops} /> : null}
        </MessageLink>
      ))}
      {data?.items.length === 0 ? <p className="text-quiet">None of the newest messages.</p> : null}
    </div>
  )
}

/** A message on a line, which leads to its passage. */
function MessageLink({ id, at, text, children }: { id: string; at: string; text: string; children?: ReactNode }) {
  return (
    <Link
      to={`/passages/${id}`}
      className="grid grid-cols-[8rem_minmax(0,1fr)_auto] items-baseline gap-x-3 py-0.5 hover:underline"
    >
      <span className="text-xs text-quiet">{when(at)}</span>
      <span dir="auto" className="truncate">
        {shown(text)}
      </span>
      {children}
    </Link>
  )
}

/** What would be decided about a text, while it is typed. */
function TryBox() {
  const [text, setText] = useState("")
  const [channel, setChannel] = useState("")
  const [place, setPlace] = useState("direct")
  const [found, setFound] = useState<{ answer?: Explanation; error?: Error }>({})
  const channels = useData(
    "channels",
    () => service.channels(),
    ({ channels: changed }) => changed,
  )
  useEffect(() => {
    if (text.trim() === "") {
      setFound({})
      return
    }
    let stale = false
    const timer = setTimeout(() => {
      service.explain({ text, place, ...(channel ? { channel } : {}) }).then(
        (answer) => !stale && setFound({ answer }),
        (error: Error) => !stale && setFound({ error }),
      )
    }, 200)
    return () => {
      stale = true
      clearTimeout(timer)
    }
  }, [text, channel, place])
  return (
    <section aria-labelledby="try" className="border border-line bg-paper p-3">
      <h2 id="try" className="mb-2 text-sm font-semibold">
        Try a text
      </h2>
      <div className="flex flex-wrap gap-2">
        <input
          aria-label="What a person says"
          placeholder="What a person says"
          value={text}
          maxLength={2000}
          onChange={(event) => setText(event.target.value)}
          className={`${field} min-w-0 flex-1 basis-64`}
        />
        <select
          aria-label="Channel"
          value={channel}
          onChange={(event) => setChannel(event.target.value)}
          className={field}
        >
          <option value="">on any channel</option>
          {channels.data?.items.map(({ key }) => (
            <option key={key} value={key}>
              on {key}
            </option>
          ))}
        </select>
        <select
          aria-label="Kind of place"
          value={place}
          onChange={(event) => setPlace(event.target.value)}
          className={field}
        >
          <option value="direct">alone with the bot</option>
          <option value="group">in a group</option>
          <option value="broadcast">on a broadcast channel</option>
        </select>
      </div>
      <div aria-live="polite" className="mt-2 text-sm">
        {found.error ? <Problem error={found.error} /> : null}
        {found.answer ? (
          <Answer answer={found.answer} />
        ) : (
          <p className="text-quiet">Nothing is sent and nothing is kept.</p>
        )}
      </div>
    </section>
  )
}

function Answer({ answer }: { answer: Explanation }) {
  const taker = answer.routes.find(({ met }) => met)
  const others = answer.routes.filter((route) => route !== taker)
  return (
    <>
      <p className="m-0">
        →{" "}
        {answer.took === "route" ? (
          <>
            <b>{shown(answer.route ?? "")}</b>, handler {answer.handler}
            {taker ? <span className="text-quiet"> since {shown(taker.why)}</span> : null}
          </>
        ) : answer.took === "unrouted" ? (
          <>
            <b>unrouted</b>, {answer.handler ? `handler ${answer.handler}` : "nobody answers"}
          </>
        ) : (
          <>
            <b>passed over</b>: {shown(answer.why ?? "")}
          </>
        )}
      </p>
      {answer.slots ? (
        <dl className="m-0 my-1 flex flex-wrap gap-x-4">
          {Object.entries(answer.slots).map(([slot, value]) => (
            <div key={slot} className="flex gap-1.5">
              <dt className="text-quiet">{shown(slot)}</dt>
              <dd className="m-0 font-semibold">{shown(String(value))}</dd>
            </div>
          ))}
        </dl>
      ) : null}
      {answer.says === undefined ? null : (
        <blockquote dir="auto" className="m-0 my-1 border-l-4 border-spruce px-3 py-1 whitespace-pre-wrap">
          {shown(answer.says)}
        </blockquote>
      )}
      {answer.unless.map(({ route, why }) => (
        <p key={route} className="m-0">
          unless <b>{shown(route)}</b> takes it: {shown(why)}
        </p>
      ))}
      <Disclosure>
        <DisclosureButton className="mt-1 text-xs underline">Why not the others</DisclosureButton>
        <DisclosurePanel as="ol" className="m-0 mt-1 list-none p-0">
          {others.map(({ route, met, depends, why }) => (
            <li key={route} className="grid grid-cols-[1.25rem_10rem_minmax(0,1fr)] gap-x-1 py-0.5">
              <span role="img" aria-label={met ? "met, too late" : depends ? "open" : "not met"}>
                {met ? "●" : depends ? "◐" : "○"}
              </span>
              <span className="truncate">{shown(route)}</span>
              <span className="[overflow-wrap:anywhere] text-quiet">
                {shown(met ? `an earlier route takes it: ${why}` : why)}
              </span>
            </li>
          ))}
        </DisclosurePanel>
      </Disclosure>
    </>
  )
}

/** What no route took, so that the next route to write is obvious. */
function Groups() {
  const { data, error } = useData(
    "unrouted groups",
    () => service.unroutedGroups(lately),
    ({ messages }) => messages.size > 0,
  )
  return (
    <section aria-labelledby="unrouted">
      <h2 id="unrouted" className="mb-1 text-base font-semibold">
        What no route took
      </h2>
      <p className="mb-2 text-sm text-quiet">
        {data
          ? `${counted(data.looked, "text")} of the last ${lately} days, grouped by likeness${data.whole ? "" : "; only the newest were looked at"}.`
          : "One moment …"}
      </p>
      {error ? <Problem error={error} /> : null}
      {data?.items.length ? (
        <div className="border border-line bg-paper">
          {data.items.map((group) => (
            <Group key={group.messages[0]!.id} group={group} />
          ))}
        </div>
      ) : data ? (
        <Empty>Every text found its route.</Empty>
      ) : null}
    </section>
  )
}

function Group({ group }: { group: UnroutedGroup }) {
  const [first] = group.messages
  return (
    <Disclosure as="article" className="border-b border-line text-sm last:border-b-0">
      <div className="grid grid-cols-[3rem_minmax(0,1fr)] items-baseline gap-x-3 px-3 py-2 md:grid-cols-[3rem_minmax(0,1fr)_minmax(0,1fr)]">
        <span className="text-right font-semibold">{group.count}</span>
        <DisclosureButton className="min-w-0 text-left hover:underline">
          <span dir="auto" className="block truncate">
            “{shown(first!.text)}”
          </span>
          <span className="text-xs text-quiet">
            {counted(group.people, "conversation")}, last {when(group.lastAt)}
          </span>
        </DisclosureButton>
        {group.phrase ? (
          <span className="col-start-2 flex min-w-0 items-baseline gap-2 md:col-start-auto">
            <code className="min-w-0 font-mono text-xs [overflow-wrap:anywhere]">{shown(group.phrase)}</code>
            <Copy text={group.phrase} what={`the phrase for “${shown(first!.text.slice(0, 40))}”`} />
          </span>
        ) : null}
      </div>
      <DisclosurePanel className="border-t border-line bg-mist px-3 py-2 pl-[4.25rem]">
        {group.messages.map((message) => (
          <MessageLink key={message.id} id={message.id} at={message.receivedAt} text={message.text} />
        ))}
        {group.count > group.messages.length ? (
          <p className="m-0 text-quiet">and {group.count - group.messages.length} more</p>
        ) : null}
      </DisclosurePanel>
    </Disclosure>
  )
}
