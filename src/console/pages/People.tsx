import { useEffect, useState } from "react"
import { Link, useNavigate, useParams, useSearchParams } from "react-router"
import { counted } from "../../client/counted.ts"
import { shown } from "../../client/shown.ts"
import type { ForgettingView, PersonView, PersonWhole } from "../../client/types.ts"
import { useAct, useData } from "../data.ts"
import { usePages } from "../pagedList.ts"
import { Button, Copy, Empty, field, Json, More, Problem, Section, useListKeys } from "../parts/basics.tsx"
import { SearchBox } from "../parts/SearchBox.tsx"
import { Sure } from "../parts/Sure.tsx"
import { service } from "../service.ts"
import { when } from "../time.ts"
import { useMay, useTitle } from "../visitor.ts"

/** Who they are, on which channel: found by name, number or tag. */
export function People() {
  const { contact } = useParams()
  const [search] = useSearchParams()
  useTitle(contact ? undefined : "People")
  return (
    <div className="flex min-h-0 flex-1 flex-col md:flex-row">
      <Found contact={contact} words={search.get("q") ?? ""} />
      <div className={`flex min-h-0 min-w-0 flex-1 flex-col overflow-y-auto ${contact ? "" : "max-md:hidden"}`}>
        {contact ? <Person key={contact} contact={contact} /> : <Empty>Choose a person.</Empty>}
      </div>
    </div>
  )
}

/** `#crew` looks for a tag. */
function askedFor(words: string): { text?: string; tag?: string } {
  const tag = /(?:^|\s)#(\S+)/.exec(words)?.[1]
  const text = words.replace(/(?:^|\s)#\S+/, " ").trim()
  return { ...(text ? { text } : {}), ...(tag ? { tag } : {}) }
}

function Found({ contact, words }: { contact: string | undefined; words: string }) {
  const found = usePages<PersonView>({
    key: `everybody ${words}`,
    load: (cursor) => service.people({ limit: 100, ...askedFor(words), ...(cursor ? { cursor } : {}) }),
    id: (item) => `${item.channel} ${item.address}`,
    place: (item) => item.contact,
    concerns: ({ said }) => said.size > 0,
  })
  useListKeys(found.list)
  const tail = words ? `?q=${encodeURIComponent(words)}` : ""
  return (
    <section
      aria-label="People"
      className={`flex min-h-0 w-full flex-1 flex-col border-line bg-paper md:w-80 md:flex-none md:border-r ${contact ? "max-md:hidden" : ""}`}
    >
      {contact ? null : <h1 className="sr-only">People</h1>}
      <SearchBox
        words={words}
        placeholder="Name, number, or #tag"
        label="Search by name, number, or a tag such as #crew"
      />
      {found.error ? <Problem error={found.error} /> : null}
      <div ref={found.list} className="min-h-0 flex-1 overflow-y-auto">
        {found.items?.map((item) => (
          <Link
            key={`${item.channel} ${item.address}`}
            to={`/people/${item.contact}${tail}`}
            data-row
            aria-current={item.contact === contact ? "true" : undefined}
            className={`block border-b border-line border-l-4 px-3 py-2 text-sm hover:bg-spruce-wash ${item.contact === contact ? "border-l-spruce bg-spruce-wash" : "border-l-transparent"}`}
          >
            <span className="flex items-baseline justify-between gap-2">
              <span className="truncate font-semibold" dir="auto">
                {shown(item.name ?? item.address)}
              </span>
              <span className="shrink-0 text-xs text-quiet">{item.channel}</span>
            </span>
            <span className="flex items-baseline justify-between gap-2 text-xs text-quiet">
              <code className="truncate font-mono">{shown(item.address)}</code>
              <span className="truncate">{item.tags.map((tag) => `#${shown(tag)}`).join(" ")}</span>
            </span>
          </Link>
        ))}
        {found.items?.length === 0 ? (
          <Empty>{words ? "Nobody by that name, number or tag." : "Nobody has spoken yet."}</Empty>
        ) : null}
        {found.lookedTo ? <p className="px-3 py-2 text-xs text-quiet">Looked through a part so far.</p> : null}
        <More more={found.more} loading={found.loading} name="Show more" />
      </div>
    </section>
  )
}

function Person({ contact }: { contact: string }) {
  const person = useData(
    `person ${contact}`,
    () => service.person(contact),
    ({ conversations }) => conversations.size > 0,
  )
  const [forgotten, setForgotten] = useState<ForgettingView>()
  const [search] = useSearchParams()
  const view = person.data
  const name = view ? shown(view.name ?? view.addresses[0]?.address ?? "nameless") : undefined
  useTitle(name)
  if (forgotten) return <Forgotten begun={forgotten} />
  if (person.error && !view)
    return (
      <div className="p-4">
        <Problem error={person.error} />
      </div>
    )
  if (!view) return <Empty>One moment …</Empty>
  const words = search.get("q")
  return (
    <article aria-label={name} className="w-full max-w-4xl p-4">
      <Link to={`/people${words ? `?q=${encodeURIComponent(words)}` : ""}`} className="text-sm underline md:hidden">
        All people
      </Link>
      <header className="mb-3 flex flex-wrap items-baseline gap-x-3">
        <h1 className="text-lg font-semibold" dir="auto">
          {name}
        </h1>
        <span className="flex items-center gap-2 text-xs text-quiet">
          <code className="font-mono">{contact}</code> <Copy text={contact} what="the contact's id" />
        </span>
        {view.blockedAt ? (
          <span className="rounded-sm bg-damson px-1.5 text-xs font-semibold text-paper">
            blocked since {when(view.blockedAt)}
          </span>
        ) : null}
      </header>
      {person.error ? <Problem error={person.error} /> : null}
      <Addresses view={view} again={person.again} />
      <Tags view={view} again={person.again} />
      <Talks view={view} />
      <Actions view={view} again={person.again} forgotten={setForgotten} />
    </article>
  )
}

function Addresses({ view, again }: { view: PersonWhole; again: () => void }) {
  const operator = useMay("operator")
  const several = view.addresses.length > 1
  return (
    <Section title="Addresses">
      <ul className="m-0 list-none p-0 text-sm">
        {view.addresses.map(({ channel, address, name, handle, language }) => (
          <li
            key={`${channel} ${address}`}
            className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-line py-1.5 last:border-b-0"
          >
            <span className="w-40 shrink-0 truncate text-quiet">{channel}</span>
            <code className="font-mono [overflow-wrap:anywhere]">{shown(address)}</code>
            <Copy text={address} what={`the address on ${channel}`} />
            <span className="text-quiet" dir="auto">
              {[name, handle && `@${handle}`, language]
                .filter(Boolean)
                .map((one) => shown(one!))
                .join(", ")}
            </span>
            {operator && several ? (
              <span className="ml-auto">
                <Sure
                  act="Split off"
                  asks="Whoever is behind this address is somebody else from now on."
                  run={() => service.splitPerson(view.contact, channel, address)}
                  done={again}
                />
              </span>
            ) : null}
          </li>
        ))}
      </ul>
    </Section>
  )
}

function Tags({ view, again }: { view: PersonWhole; again: () => void }) {
  const operator = useMay("operator")
  const { act, busy, error } = useAct()
  const [tag, setTag] = useState("")
  const fields = Object.keys(view.fields)
  return (
    <Section title="Tags and fields">
      <div className="mb-3 flex flex-wrap items-center gap-2 text-sm">
        {view.tags.map((one) => (
          <span key={one} className="flex items-center gap-1 border border-line px-1.5">
            #{shown(one)}
            {operator ? (
              <button
                type="button"
                aria-label={`Take the tag ${shown(one)} away`}
                className="min-h-6 min-w-6 cursor-pointer text-quiet"
                disabled={busy}
                onClick={() => act(() => service.markPerson(view.contact, { removeTags: [one] }), again)}
              >
                ✕
              </button>
            ) : null}
          </span>
        ))}
        {view.tags.length === 0 ? <span className="text-quiet">No tags.</span> : null}
        {operator ? (
          <form
            className="flex items-center gap-2"
            onSubmit={(event) => {
              event.preventDefault()
              if (tag.trim())
                act(
                  () => service.markPerson(view.contact, { addTags: [tag.trim().replace(/^#/, "")] }),
                  () => (setTag(""), again()),
                )
            }}
          >
            <input
              value={tag}
              onChange={(event) => setTag(event.target.value)}
              aria-label="A tag to add"
              placeholder="crew"
              className={`${field} w-28`}
            />
            <Button type="submit" disabled={busy || tag.trim() === ""}>
              Add the tag
            </Button>
          </form>
        ) : null}
      </div>
      {error ? <Problem error={error} /> : null}
      {fields.length > 0 ? <Json value={view.fields} /> : null}
    </Section>
  )
}

/** Where they talk, what is remembered there, what runs, and whether they want to be sent anything. */
function Talks({ view }: { view: PersonWhole }) {
  return (
    <Section title="Conversations">
      {view.conversations.length === 0 ? (
        <p className="text-sm text-quiet">None of their own; they spoke in groups.</p>
      ) : null}
      {view.conversations.map(({ id, channel, answeredBy, optedOut, noNotices, lastAt, state }) => (
        <div key={id} className="border-b border-line py-2 text-sm last:border-b-0">
          <p className="m-0 flex flex-wrap items-baseline gap-x-3">
            <Link to={`/conversations/${id}`} className="underline">
              on {channel}
            </Link>
            <span className="text-quiet">{lastAt ? `last ${when(lastAt)}` : "nothing was said yet"}</span>
            {answeredBy === "person" ? <span>a person answers</span> : null}
            <span className={optedOut || noNotices ? "text-damson" : "text-quiet"}>
              {optedOut
                ? `wants to be sent nothing since ${when(optedOut)}`
                : noNotices
                  ? `wants nothing that starts here since ${when(noNotices)}; is answered`
                  : "may be written to"}
            </span>
          </p>
          {view.interviews
            .filter(({ conversation }) => conversation === id)
            .map((interview) => (
              <p key={interview.id} className="m-0">
                interview <b>{shown(interview.handler)}</b>, {interview.stands}
              </p>
            ))}
          {Object.keys(state).length > 0 ? <Json value={state} /> : null}
        </div>
      ))}
    </Section>
  )
}

function Actions({
  view,
  again,
  forgotten,
}: {
  view: PersonWhole
  again: () => void
  forgotten: (begun: ForgettingView) => void
}) {
  const operator = useMay("operator")
  const developer = useMay("developer")
  const { act, busy, error } = useAct()
  const [code, setCode] = useState<{ code: string; until: string }>()
  const [other, setOther] = useState("")
  if (!operator) return null
  const { contact, blockedAt } = view
  return (
    <Section title="Change">
      <div className="flex flex-col items-start gap-3 text-sm">
        <div className="flex flex-wrap items-center gap-2">
          <Button disabled={busy} onClick={() => act(async () => setCode(await service.makeJoinCode(contact)))}>
            Make a code for another channel
          </Button>
          {code ? (
            <span role="status">
              <b className="font-mono">{code.code}</b> <Copy text={code.code} what="the code" />{" "}
              <span className="text-quiet">
                said as a message on another channel until {when(code.until)}, it makes them this person there
              </span>
            </span>
          ) : null}
        </div>
        <div className="flex flex-wrap items-center gap-2">
          <input
            value={other}
            onChange={(event) => setOther(event.target.value.trim())}
            aria-label="The id of a contact to join with this one"
            placeholder="con_…"
            className={`${field} w-72 font-mono`}
          />
          <Sure
            act="Join with this one"
            asks={`Addresses, tags and interviews of ${other || "the other contact"} become this person's; of fields with one name, this one's count.`}
            run={() => service.joinPeople(contact, other)}
            done={() => (setOther(""), again())}
          />
        </div>
        {blockedAt ? (
          <Button disabled={busy} onClick={() => act(() => service.blockPerson(contact, false), again)}>
            Unblock
          </Button>
        ) : (
          <Sure
            act="Block"
            asks="Nothing they say is handled or answered until that is lifted. It is kept all the same."
            run={() => service.blockPerson(contact, true)}
            done={again}
          />
        )}
        {developer ? (
          <Sure
            act="Forget"
            asks="Everything they said and were answered is removed, with all that is remembered of them. It cannot be undone."
            run={async () => forgotten(await service.forgetPerson(contact))}
            done={() => undefined}
          />
        ) : null}
        {error ? <Problem error={error} /> : null}
      </div>
    </Section>
  )
}

/** Somebody who is being forgotten: how far that is, and what it has removed. */
function Forgotten({ begun }: { begun: ForgettingView }) {
  const [now, setNow] = useState(begun)
  const [error, setError] = useState<Error>()
  const navigate = useNavigate()
  useTitle("Forgotten")
  useEffect(() => {
    if (now.endedAt !== null) return
    const timer = setTimeout(
      () =>
        void service.forgetting(now.id).then(
          (found) => (setError(undefined), setNow(found)),
          (fault: Error) => (setError(fault), setNow({ ...now })),
        ),
      700,
    )
    return () => clearTimeout(timer)
  }, [now])
  const { said, answered, media, calls, interviews, conversations } = now.removed
  return (
    <section aria-label="Forgotten" className="max-w-prose p-4 text-sm">
      <h1 className="mb-2 text-lg font-semibold">{now.endedAt ? "Forgotten" : "Forgetting …"}</h1>
      <p role="status">
        {now.endedAt
          ? "The whole record has been looked through."
          : `${Math.floor(now.progress * 100)} % of the record has been looked through. It continues when you leave this page.`}
      </p>
      <div
        role="progressbar"
        aria-label="How much has been looked through"
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={Math.floor(now.progress * 100)}
        className="my-2 h-3 w-full border border-edge bg-paper"
      >
        <div className="h-full bg-spruce" style={{ width: `${now.progress * 100}%` }} />
      </div>
      <p>
        Removed: {counted(said, "message")} they sent, {counted(answered, "answer")},{" "}
        {counted(media, "picture or file", "pictures and files")}, {counted(interviews, "interview")}, the bodies of{" "}
        {counted(calls, "received call")}, and what was remembered of {counted(conversations, "conversation")}.
      </p>
      <p className="text-quiet">Backups made before still hold them; a restore forgets them again.</p>
      {error ? <Problem error={error} /> : null}
      {now.endedAt ? <Button onClick={() => void navigate("/people")}>To all people</Button> : null}
    </section>
  )
}
