import { Disclosure, DisclosureButton, DisclosurePanel } from "@headlessui/react"
import { useRef } from "react"
import { Link, useParams } from "react-router"
import { changesOf } from "../../client/changes.ts"
import { counted } from "../../client/counted.ts"
import { originWords } from "../../client/originWords.ts"
import { shown, shownJson } from "../../client/shown.ts"
import type {
  AttemptView,
  ElsewhereCallView,
  IntakeView,
  InterviewNote,
  Passage,
  PassagePath,
  ReplyPath,
  TurnView,
  WaitingNote,
} from "../../client/types.ts"
import { Button, Copy, Facts, Json, Problem, Section, Waiting } from "../parts/basics.tsx"
import { Rail, RailWord, sentence } from "../parts/Rail.tsx"
import { Kept } from "../parts/Kept.tsx"
import { Sure } from "../parts/Sure.tsx"
import { useAct, useData } from "../data.ts"
import { service } from "../service.ts"
import { useMay, useTitle } from "../visitor.ts"
import { clock, span, when } from "../time.ts"
import { dropAsks } from "./Parked.tsx"

export function PassagePage() {
  const { id = "" } = useParams()
  const known = useRef<Passage>(undefined)
  const { data, error, again } = useData(
    `passage ${id}`,
    () => service.passage(id),
    ({ conversations }) =>
      known.current === undefined ||
      known.current.paths.length === 0 ||
      known.current.paths.some(({ message }) => conversations.has(message.conversation)),
  )
  known.current = data
  const [first, ...others] = data ? inOrder(data.paths) : []
  useTitle(first?.message.text ? `“${shown(first.message.text.slice(0, 40))}”` : "Passage")
  if (!data) return <Waiting error={error} />
  return (
    <div className="mx-auto flex w-full max-w-6xl flex-col gap-5 p-4">
      <header className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 className="text-lg font-semibold">
          Passage: <RailWord stops={data.stops} />
        </h1>
        <span className="text-sm text-quiet">
          {when(data.receivedAt)} on{" "}
          <Link to={`/channels/${data.channel}`} className="underline">
            {data.channel}
          </Link>
        </span>
        <span className="flex items-center gap-2 font-mono text-xs text-quiet">
          {data.id} <Copy text={data.id} what="the passage's id" />
        </span>
      </header>
      <div className="border border-line bg-paper p-4">
        <Rail stops={data.stops} />
      </div>
      {error ? <Problem error={error} /> : null}
      {first ? <Path path={first} passage={data} again={again} /> : null}
      {others.map((path) => (
        <Fold
          key={path.message.id}
          title={`Also in this call: “${shown(path.message.text.slice(0, 60)) || path.message.event}”`}
        >
          <div className="flex flex-col gap-5">
            <Path path={path} passage={data} again={again} />
          </div>
        </Fold>
      ))}
      {data.intake ? <Call intake={data.intake} /> : null}
    </div>
  )
}

/** What a person has to decide about first, and otherwise as it was said. */
function inOrder(paths: PassagePath[]): PassagePath[] {
  const open = (path: PassagePath) => path.parked.some((parked) => !parked.decision)
  return [...paths.filter(open), ...paths.filter((path) => !open(path))]
}

function Path({ path, passage, again }: { path: PassagePath; passage: Passage; again: () => void }) {
  const { message } = path
  const last = path.turns.at(-1)
  const original = message.origin === "relay" ? message.author : null
  return (
    <>
      <div className="grid gap-5 lg:grid-cols-2">
        <Section
          title={
            passage.intake
              ? "Message"
              : isMoment(passage)
                ? "Of an interview"
                : shown(originWords(message.origin, original ? null : message.author))
          }
        >
          <blockquote
            dir="auto"
            className="m-0 mb-2 border-l-4 border-spruce bg-paper px-3 py-2 whitespace-pre-wrap [overflow-wrap:anywhere]"
          >
            {shown(message.text) || `(${message.event})`}
            <Kept message={message} />
          </blockquote>
          <Facts
            rows={[
              ["from", shown(from(message.body) ?? "")],
              [
                "relayed from",
                original && (
                  <Link key="o" to={`/passages/${original}`} className="underline">
                    the message where it was said
                  </Link>
                ),
              ],
              ["event", message.event],
              [
                "conversation",
                <Link key="c" to={`/conversations/${message.conversation}`} className="underline">
                  {shown(message.title ?? message.address ?? message.conversation)}
                </Link>,
              ],
              ["place in line", message.position],
              ["provider's id", message.providerId],
              ["said at", message.sentAt ? when(message.sentAt) : undefined],
            ]}
          />
          <Fold title="The message in Wobbet's form">
            <Json value={message.body} />
          </Fold>
        </Section>
        <Section title="Decision">
          {path.decision.length === 0 ? (
            <p className="text-sm text-quiet">
              {sentence(last?.reason ?? (path.waiting ? "The handler is waited for." : "No decision has been made."))}
            </p>
          ) : (
            <Decision path={path} />
          )}
        </Section>
      </div>
      {path.turns.map((turn, at) => (
        <Turn
          key={turn.turn}
          turn={turn}
          title={path.turns.length > 1 ? `Turn ${at + 1} of ${path.turns.length}` : "Turn"}
        />
      ))}
      {path.waiting ? <WaitsElsewhere note={path.waiting} /> : null}
      {path.parked.map((parked) => (
        <ParkedNote key={parked.id} what="turn" parked={parked} again={again} />
      ))}
      {path.replies.length + (path.courtesies?.length ?? 0) > 0 ? (
        <Section title="Calls made, and their answers">
          {(path.courtesies ?? []).map((attempt) => (
            <Attempt key={attempt.attempt} attempt={attempt} note="told the provider that the press was seen" />
          ))}
          {path.replies.map((reply) => (
            <Reply key={reply.message.id} reply={reply} again={again} />
          ))}
        </Section>
      ) : null}
    </>
  )
}

function from(body: { [field: string]: unknown }): string | undefined {
  const sender = body.from as { name?: string; handle?: string; address: string; bot?: boolean } | undefined
  if (!sender) return undefined
  return [sender.name, sender.handle && `@${sender.handle}`, sender.address, sender.bot && "a bot"]
    .filter(Boolean)
    .join(", ")
}

/** What took the message first; the routes before it, and why each did not, folded beneath. */
function Decision({ path }: { path: PassagePath }) {
  const taken = path.decision.findIndex((route) => route.met)
  const taker = path.decision[taken]
  const before = taker ? path.decision.slice(0, taken) : path.decision
  const after = path.decision.length - before.length - (taker ? 1 : 0)
  const [first] = before
  const alike = first !== undefined && before.length > 1 && before.every((route) => route.why === first.why)
  if (!taker)
    return alike ? (
      <p className="text-sm text-quiet">
        The same for all {before.length} routes: {first.why}.
      </p>
    ) : (
      <>
        <p className="mb-1 text-sm">No route took it.</p>
        <Decided routes={before} />
      </>
    )
  return (
    <>
      <Decided routes={[taker]} />
      {before.length > 0 ? (
        <Fold title={`${counted(before.length, "route")} before it did not`}>
          {alike ? (
            <p className="text-sm text-quiet">
              The same for all of them ({before.map(({ route }) => route).join(", ")}): {first.why}.
            </p>
          ) : (
            <Decided routes={before} />
          )}
        </Fold>
      ) : null}
      {after > 0 ? (
        <p className="mt-1 text-xs text-quiet">
          {counted(after, "route")} after it {after === 1 ? "was" : "were"} not looked at: the first that is met takes
          the message.
        </p>
      ) : null}
    </>
  )
}

function Decided({ routes }: { routes: PassagePath["decision"] }) {
  return (
    <ol className="m-0 list-none p-0 text-sm">
      {routes.map(({ route, met, why, slots }) => (
        <li key={route} className="grid grid-cols-[1.25rem_8rem_1fr] gap-x-1 py-0.5">
          <span role="img" aria-label={met ? "met" : "not met"}>
            {met ? "●" : "○"}
          </span>
          <span className={met ? "font-semibold" : "text-quiet"}>{route}</span>
          <span className={`[overflow-wrap:anywhere] ${met ? "" : "text-quiet"}`}>
            {shown(why)}
            {slots ? <code className="ml-2 font-mono text-xs">{shownJson(slots)}</code> : null}
          </span>
        </li>
      ))}
    </ol>
  )
}

/** Calls to endpoints, leases, and answers by the API, as they came. */
function AskedElsewhere({ calls }: { calls: ElsewhereCallView[] }) {
  return (
    <ul className="m-0 list-none p-0 text-sm">
      {calls.map(({ to, at, took, status, came, answer, by, tokens, cost, facts = [], tools = [] }) => (
        <li key={at + came} className="py-0.5">
          <span className="text-quiet tabular-nums">{clock(at)}</span> {by ? "leased from" : "asked"}{" "}
          <code className="font-mono text-xs [overflow-wrap:anywhere]">{shown(to)}</code>: {shown(came)}
          {[
            status,
            took === undefined ? undefined : span(took),
            by && `by ${shown(by)}`,
            tokens && `${tokens.asked} + ${tokens.answered} tokens`,
            cost !== undefined && `cost ${cost.toFixed(6)}`,
          ]
            .filter(Boolean)
            .map((fact) => (
              <span key={String(fact)} className="text-quiet">
                , {fact}
              </span>
            ))}
          {facts.length > 0 ? (
            <span className="block text-quiet">With the facts: {facts.map((fact) => shown(fact)).join("; ")}</span>
          ) : null}
          {tools.map(({ name, with: given, gave, log = [] }) => (
            <div key={name + given} className="[overflow-wrap:anywhere]">
              It used <b>{shown(name)}</b> with <code className="font-mono text-xs">{shown(given)}</code>, which gave{" "}
              <code className="font-mono text-xs">{shown(gave)}</code>
              {log.length > 0 ? <Json value={log.join("\n")} /> : null}
            </div>
          ))}
          {answer ? (
            <Fold title="What it answered">
              <Json value={answer} />
            </Fold>
          ) : null}
        </li>
      ))}
    </ul>
  )
}

function WaitsElsewhere({ note }: { note: WaitingNote }) {
  const { kind, place, since, until, leasedBy, leasedUntil, calls } = note
  return (
    <Section title="Waiting">
      <p className="mb-2 text-sm">
        For an answer from the {kind} <code className="font-mono text-xs [overflow-wrap:anywhere]">{shown(place)}</code>
        , since {when(since)}, until {when(until)}.
        {leasedBy ? ` Held by ${shown(leasedBy)} until ${clock(leasedUntil!)}.` : ""}
      </p>
      <AskedElsewhere calls={calls} />
    </Section>
  )
}

function Turn({ turn, title }: { turn: TurnView; title: string }) {
  const bad = turn.error !== null
  return (
    <Section
      title={title}
      aside={
        <span className="text-xs text-quiet">
          {clock(turn.startedAt)}, {span(Date.parse(turn.endedAt) - Date.parse(turn.startedAt))}
        </span>
      }
    >
      <p className={`mb-2 text-sm ${bad ? "text-damson" : ""}`}>
        {sentence(
          [turn.outcome, turn.handler && `by handler ${turn.handler}`, turn.run > 1 && `run ${turn.run}`]
            .filter(Boolean)
            .join(", ") + (turn.reason ? `: ${shown(turn.reason)}` : ""),
        )}
      </p>
      {turn.error?.stack ? <Json value={turn.error.stack} /> : null}
      {turn.log?.length ? <Json value={turn.log.join("\n")} /> : null}
      {turn.degraded?.map((note) => (
        <p key={note} className="text-sm">
          {sentence(note)}
        </p>
      ))}
      {turn.takenAs ? (
        <p className="text-sm">
          Taken as the choice <b>{shown(turn.takenAs.label ?? "")}</b>{" "}
          <code className="font-mono text-xs">{shown(turn.takenAs.id)}</code>
        </p>
      ) : null}
      {turn.interview ? <Interviewed note={turn.interview} /> : null}
      {turn.elsewhere ? <AskedElsewhere calls={turn.elsewhere.calls} /> : null}
      {turn.elsewhere?.instead !== undefined ? (
        <p className="text-sm">{sentence(`the fallback was said: ${shown(turn.elsewhere.instead)}`)}</p>
      ) : null}
      {turn.relays?.map(({ what, toChannel, toPlace, state, why, copy }) => (
        <p key={what + toChannel + toPlace} className="text-sm">
          {sentence(
            `${what}, relayed to ${shown(toChannel)} ${shown(toPlace)}: ${state}${why ? ` (${shown(why)})` : ""}`,
          )}{" "}
          {copy ? <code className="font-mono text-xs">{copy}</code> : null}
        </p>
      ))}
      {turn.onces.map(({ name, runs, startedAt, endedAt, value, threw }) => (
        <p key={startedAt + name} className="text-sm">
          Once <b>{shown(name)}</b>
          {runs > 1 ? `, begun ${runs} times with the same key` : ""}:{" "}
          {threw
            ? `threw ${shown(threw.message)}`
            : endedAt
              ? `gave ${shownJson(value)}`
              : "its result is not on record"}
        </p>
      ))}
      {turn.stateBefore && !bad ? <StateChange before={turn.stateBefore} after={turn.stateAfter} /> : null}
    </Section>
  )
}

function Reply({ reply, again }: { reply: ReplyPath; again: () => void }) {
  return (
    <article className="mb-4 grid gap-2">
      <blockquote
        dir="auto"
        className="m-0 border-r-4 border-spruce bg-paper px-3 py-2 text-right whitespace-pre-wrap [overflow-wrap:anywhere]"
      >
        {shown(reply.message.text)}
      </blockquote>
      {reply.attempts.map((attempt) => (
        <Attempt key={attempt.attempt} attempt={attempt} />
      ))}
      {reply.statuses.length > 0 ? (
        <p className="text-sm">
          Reported since:{" "}
          {reply.statuses.map((one) => `${one.status} ${clock(one.at)}${one.why ? ` (${one.why})` : ""}`).join(", ")}
        </p>
      ) : null}
      {reply.attempts.length === 0 ? (
        <p className="text-sm text-quiet">
          No call has been made yet: {reply.message.reason ?? "it waits in its line"}.
        </p>
      ) : null}
      {reply.parked.map((parked) => (
        <ParkedNote key={parked.id} what="send" parked={parked} again={again} />
      ))}
      <Fold title="The call as rendered">
        <Json value={reply.calls} />
      </Fold>
    </article>
  )
}

function Attempt({ attempt, note }: { attempt: AttemptView; note?: string }) {
  const bad = attempt.outcome !== null && attempt.outcome !== "accepted"
  const took = attempt.endedAt ? span(Date.parse(attempt.endedAt) - Date.parse(attempt.startedAt)) : "under way"
  return (
    <div className="text-sm">
      <span className="text-quiet">{clock(attempt.startedAt)}</span>{" "}
      <code className="font-mono text-xs">{attempt.name}</code> →{" "}
      <span className={bad ? "text-damson" : "font-semibold"}>{attempt.outcome ?? "no answer yet"}</span>
      <span className="text-quiet">
        {[attempt.status, attempt.providerId && `id ${attempt.providerId}`, took, note]
          .filter(Boolean)
          .map((part) => `, ${part}`)}
        {attempt.why ? `: ${shown(attempt.why)}` : ""}
      </span>
      {attempt.answer ? (
        <Fold title="The answer">
          <Json value={readable(attempt.answer)} />
        </Fold>
      ) : null}
    </div>
  )
}

function ParkedNote({
  parked,
  what,
  again,
}: {
  parked: PassagePath["parked"][number]
  what: "turn" | "send"
  again: () => void
}) {
  const { act, busy, error } = useAct()
  const operator = useMay("operator")
  if (parked.decision) {
    return (
      <p className="text-sm text-quiet">
        Was parked ({parked.cause}): {parked.reason}. {parked.decidedBy} chose to {parked.decision}.
      </p>
    )
  }
  return (
    <div className="border-l-4 border-damson bg-damson-wash px-4 py-3 text-sm text-damson">
      <p className="mb-2">
        <strong>Parked since {clock(parked.since)}.</strong> {sentence(shown(parked.reason))} {parked.remedy}
      </p>
      {operator ? (
        <span className="flex flex-wrap items-start gap-2">
          <Button disabled={busy} onClick={() => act(() => service.retryParked(parked.id), again)}>
            Retry
          </Button>
          <Sure act="Drop" asks={dropAsks(what)} run={() => service.dropParked(parked.id)} done={again} />
        </span>
      ) : null}
      {error ? <Problem error={error} /> : null}
    </div>
  )
}

function Call({ intake }: { intake: IntakeView }) {
  const { verdict } = intake
  return (
    <Section title="The call as it came">
      <Facts
        rows={[
          [
            "call",
            <code key="call" className="font-mono text-xs">
              {intake.method} {shown(intake.address)}
            </code>,
          ],
          ["came by", `${intake.via}, ${intake.size} bytes`],
          ["answered", intake.answered],
          ["verdict", verdict.genuine ? `genuine, by ${verdict.by}` : sentence(`not genuine: ${verdict.why}`)],
          ["near miss", verdict.genuine ? undefined : (verdict.near ?? verdict.tried)],
          ["what to do", verdict.genuine ? undefined : verdict.remedy],
          ["repeated", intake.repeated ? "it tells of something that was seen before" : undefined],
          ["notes", intake.notes.join("; ")],
        ]}
      />
      <Fold title="Headers (secrets as fingerprints)">
        <Facts rows={Object.entries(intake.headers).map(([name, value]) => [shown(name), shown(value)])} />
      </Fold>
      <Fold title="Body" open>
        <Json value={readable(intake.body)} />
      </Fold>
    </Section>
  )
}

function Fold({ title, children, open = false }: { title: string; children: React.ReactNode; open?: boolean }) {
  return (
    <Disclosure as="div" className="mt-2" defaultOpen={open}>
      <DisclosureButton className="min-h-6 cursor-pointer text-left text-xs text-quiet underline decoration-dotted data-open:mb-1">
        {title}
      </DisclosureButton>
      <DisclosurePanel>{children}</DisclosurePanel>
    </Disclosure>
  )
}

function readable(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2)
  } catch {
    return text
  }
}

/** What a turn did with an interview. */
function Interviewed({ note }: { note: InterviewNote }) {
  const { did, question, value, why, aside, differs, unsteady } = note
  const parting = differs ?? unsteady
  return (
    <p className="text-sm">
      Interview: {shown(did)}
      {question ? (
        <>
          {" "}
          “{shown(question)}”{value === undefined ? "" : ` → ${shownJson(value)}`}
        </>
      ) : null}
      {aside ? `; the route ${shown(aside)} answered in between` : ""}
      {why ? `. ${sentence(why)}` : ""}
      {parting
        ? ` ${differs ? "The handler has changed" : "It does not do the same when it is run again"}: step ${parting.n} was ${shown(parting.was)}, now ${shown(parting.is)}${parting.line ? ` (${shown(parting.line)})` : ""}.`
        : null}
    </p>
  )
}

/** What of the state changed, and the whole of it beneath. */
function StateChange({ before, after }: { before: object; after: object | null }) {
  const changes = after ? changesOf(before, after) : []
  return (
    <div className="mt-2">
      <h3 className="mb-1 text-xs text-quiet">State{changes.length === 0 ? ": unchanged" : ""}</h3>
      {changes.length > 0 ? (
        <table className="text-sm">
          <thead className="sr-only">
            <tr>
              <th>Field</th>
              <th>Before</th>
              <th>After</th>
            </tr>
          </thead>
          <tbody>
            {changes.map(({ field, was, is }) => (
              <tr key={field}>
                <td className="pr-4 align-top">{shown(field)}</td>
                <td className="pr-2 align-top text-quiet">{was === undefined ? "nothing" : shownJson(was)}</td>
                <td className="align-top">→ {is === undefined ? "nothing" : shownJson(is)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      <details className="mt-1">
        <summary className="min-h-6 cursor-pointer text-xs text-quiet">The whole state</summary>
        <Json value={after ?? before} />
      </details>
    </div>
  )
}

/** Whether it tells of something that happened to an interview, and not of a call or a reply by hand. */
function isMoment({ paths }: Passage): boolean {
  return paths.some(({ message }) => message.event === "interview")
}
