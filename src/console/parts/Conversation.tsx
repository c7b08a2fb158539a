import { useState } from "react"
import { shown, shownJson } from "../../client/shown.ts"
import { Link, useSearchParams } from "react-router"
import type { ConversationView, InterviewView } from "../../client/types.ts"
import { useAct, useData } from "../data.ts"
import { useLedger } from "../ledger.ts"
import { service } from "../service.ts"
import { when } from "../time.ts"
import { useMay, useTitle } from "../visitor.ts"
import { AnswerBox } from "./AnswerBox.tsx"
import { Button, Copy, Empty, Json, Problem } from "./basics.tsx"
import { Ledger } from "./Ledger.tsx"
import { SayBox } from "./SayBox.tsx"
import { Sure } from "./Sure.tsx"

/** One conversation: what was said, what is remembered, and the box for an answer by hand. */
export function Conversation({ id, at }: { id: string; at: number | undefined }) {
  const conversation = useData(
    `conversation ${id}`,
    () => service.conversation(id),
    ({ conversations }) => conversations.has(id),
  )
  const ledger = useLedger(id, at)
  const [search] = useSearchParams()
  const view = conversation.data
  const name = view ? shown(view.title ?? view.address) : undefined
  useTitle(name)
  if (conversation.error && !view)
    return (
      <div className="p-4">
        <Problem error={conversation.error} />
      </div>
    )
  if (!view) return <Empty>One moment …</Empty>
  const words = search.get("q")
  return (
    <div className="flex min-h-0 flex-1 flex-col xl:flex-row">
      <section aria-label="What was said" className="flex min-h-0 min-w-0 flex-1 flex-col">
        <header className="flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b border-line bg-paper px-4 py-2">
          <Link
            to={`/conversations${words ? `?q=${encodeURIComponent(words)}` : ""}`}
            className="text-sm underline md:hidden"
          >
            All conversations
          </Link>
          <h1 className="text-lg font-semibold" dir="auto">
            {name}
          </h1>
          <span className="text-sm text-quiet">
            {view.kind} on {view.channel}
            {view.topic ? `, topic ${view.topic}` : ""}
          </span>
          <span className="flex items-center gap-2 text-xs text-quiet">
            id <code className="font-mono [overflow-wrap:anywhere]">{shown(view.address)}</code>{" "}
            <Copy text={view.address} what="the provider's id" />
          </span>
        </header>
        {conversation.error ? <Problem error={conversation.error} /> : null}
        {ledger.error ? <Problem error={ledger.error} /> : null}
        <Ledger ledger={ledger} />
        <AnswerBox id={id} name={name ?? id} />
      </section>
      <Remembered
        view={view}
        id={id}
        again={() => {
          conversation.again()
          ledger.again()
        }}
      />
    </div>
  )
}

/** Whom something is said as: the person of the conversation, or somebody made up in a group. */
function speakerIn({ kind, address, title }: ConversationView): { from?: string; name?: string; place?: string } {
  if (kind !== "direct") return { place: address }
  return { from: address, ...(title ? { name: title } : {}) }
}

/** Where the interviews of a conversation stand: those that run, and the last that ended. */
function Interviews({ id, interviews, again }: { id: string; interviews: InterviewView[]; again: () => void }) {
  const operator = useMay("operator")
  const { act, busy, error } = useAct()
  const decide = (interview: string, what: "end" | "back") => service.decideInterview(id, interview, what)
  return (
    <section aria-label="Interviews" className="mt-3 border-t border-line pt-3 text-sm">
      <h2 className="mb-2 font-semibold">Interviews</h2>
      {interviews.toReversed().map(({ id: interview, handler, name, stands, waits, until, answers, ended, why }) => (
        <article key={interview} className="mb-3" aria-label={`Interview ${shown(handler)}`}>
          <p>
            <b>{shown(handler)}</b>
            {name ? ` with ${shown(name)}` : ""}:{" "}
            {stands === "ended" ? (ended ?? "ended") : stands === "waits" ? "waits for" : stands}
          </p>
          {waits ? (
            <p>
              {stands === "waits" ? shown(waits) : `“${shown(waits)}”`}
              {until ? <span className="text-quiet">, until {when(until)}</span> : null}
            </p>
          ) : null}
          {answers.length > 0 ? (
            <dl className="mt-1">
              {answers.map(({ question, value }, at) => (
                <div key={at} className="mb-1">
                  <dt className="text-quiet">{shown(question)}</dt>
                  <dd>{typeof value === "string" ? shown(value) : shownJson(value)}</dd>
                </div>
              ))}
            </dl>
          ) : null}
          {why ? <p>{shown(why)}</p> : null}
          {operator && stands !== "ended" ? (
            <p className="mt-1 flex flex-wrap items-center gap-2">
              {stands === "asks" && answers.length > 0 ? (
                <Button disabled={busy} onClick={() => act(() => decide(interview, "back"), again)}>
                  Step it back
                </Button>
              ) : null}
              <Sure
                act="End it"
                asks="What was answered in it no longer counts. The person is told nothing."
                run={() => decide(interview, "end")}
                done={again}
              />
            </p>
          ) : null}
        </article>
      ))}
      {error ? <Problem error={error} /> : null}
    </section>
  )
}

/** What is remembered, and a box to change it in. A change that was made meanwhile is not overwritten. */
function State({ id, state, tag, again }: { id: string; state: unknown; tag: string; again: () => void }) {
  const operator = useMay("operator")
  const { act, busy, error, clear } = useAct()
  // The tag is of when the box was opened: what is kept since then is somebody else's.
  const [draft, setDraft] = useState<{ text: string; tag: string }>()
  const [wrong, setWrong] = useState<string>()
  const keep = ({ text, tag }: { text: string; tag: string }) => {
    let given: unknown
    try {
      given = JSON.parse(text)
    } catch (fault) {
      return setWrong(`This is not JSON: ${(fault as Error).message}.`)
    }
    if (given === null || typeof given !== "object" || Array.isArray(given))
      return setWrong("A state is fields by their names: { … }.")
    setWrong(undefined)
    act(
      () => service.changeState(id, given as { [field: string]: unknown }, tag),
      () => (setDraft(undefined), again()),
    )
  }
  return (
    <section aria-label="State" className="text-sm">
      <h2 className="mb-2 font-semibold">State</h2>
      {draft ? (
        <form
          onSubmit={(event) => {
            event.preventDefault()
            keep(draft)
          }}
        >
          <textarea
            value={draft.text}
            onChange={(event) => setDraft({ ...draft, text: event.target.value })}
            aria-label="The state, as JSON"
            rows={Math.min(20, Math.max(5, draft.text.split("\n").length + 1))}
            spellCheck={false}
            className="w-full border border-edge bg-paper p-2 font-mono text-xs"
          />
          {wrong ? (
            <p role="alert" className="my-1 text-damson">
              {wrong}
            </p>
          ) : null}
          {error ? <Problem error={error} /> : null}
          <p className="mt-1 flex flex-wrap gap-2">
            <Button kind="main" type="submit" disabled={busy}>
              Keep it
            </Button>
            <Button onClick={() => (setDraft(undefined), setWrong(undefined), clear())}>Not now</Button>
          </p>
        </form>
      ) : (
        <>
          <Json value={state} />
          {operator ? (
            <p className="mt-2">
              <Button onClick={() => setDraft({ text: JSON.stringify(state ?? {}, null, 2), tag })}>
                Edit the state
              </Button>
            </p>
          ) : null}
        </>
      )}
    </section>
  )
}

function Remembered({
  id,
  view,
  again,
}: {
  id: string
  view: ConversationView & { state: unknown; stateTag: string; interviews: InterviewView[] }
  again: () => void
}) {
  const { state, answeredBy } = view
  const { act, busy, error } = useAct()
  const operator = useMay("operator")
  const developer = useMay("developer")
  const bot = answeredBy === "bot"
  const fields = Object.keys((state ?? {}) as object)
  return (
    <aside
      aria-label="What is remembered"
      className="shrink-0 border-line bg-paper p-4 max-xl:max-h-[35%] max-xl:overflow-y-auto max-xl:border-t xl:w-64 xl:overflow-y-auto xl:border-l"
      tabIndex={0}
    >
      <State id={id} state={state} tag={view.stateTag} again={again} />
      {view.interviews.length > 0 ? <Interviews id={id} interviews={view.interviews} again={again} /> : null}
      <div className="mt-3 flex flex-col items-start gap-2 text-sm">
        {operator && fields.length > 0 ? (
          <Sure
            act="Forget the state"
            asks={`What is remembered here (${fields.slice(0, 5).join(", ")}${fields.length > 5 ? " …" : ""}) is lost for good. What was said stays.`}
            run={() => service.resetConversation(id)}
            done={again}
          />
        ) : null}
        {view.contact ? (
          <Link to={`/people/${view.contact}`} className="underline">
            Who this is
          </Link>
        ) : null}
        {view.forgottenAt ? <p>The person was forgotten on request, {when(view.forgottenAt)}.</p> : null}
        <p className="mt-2">
          {bot
            ? "The bot answers here."
            : view.takenBy
              ? `${shown(view.takenBy)} answers here; the bot keeps quiet.`
              : "This waits for a person; the bot keeps quiet."}
        </p>
        {operator && !bot && !view.takenBy ? (
          <Button kind="main" disabled={busy} onClick={() => act(() => service.takeConversation(id), again)}>
            Take it
          </Button>
        ) : null}
        {operator ? (
          <Button
            disabled={busy}
            onClick={() => act(() => (bot ? service.takeConversation(id) : service.setAnsweredBy(id, "bot")), again)}
          >
            {bot ? "Answer it myself" : "Give it back to the bot"}
          </Button>
        ) : null}
        {error ? <Problem error={error} /> : null}
      </div>
      {developer ? (
        <details className="mt-4 border-t border-line pt-3">
          <summary className="min-h-6 cursor-pointer text-sm font-semibold">Try the bot here</summary>
          <SayBox key={id} channel={view.channel} at={speakerIn(view)} />
        </details>
      ) : null}
    </aside>
  )
}
