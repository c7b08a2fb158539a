import { useState } from "react"
import type { FormEvent } from "react"
import { Link, useParams } from "react-router"
import { shown } from "../../client/shown.ts"
import type { Method, OperationShown, TriedShown, TryRequest } from "../../client/types.ts"
import { useAct, useData } from "../data.ts"
import { Button, Facts, field, Json, Problem } from "../parts/basics.tsx"
import { SayBox } from "../parts/SayBox.tsx"
import { service } from "../service.ts"
import { useMay, useTitle } from "../visitor.ts"

const methods: Method[] = ["GET", "POST", "PUT", "PATCH", "DELETE"]

/** Trying a channel: one of its provider's own calls, with the channel's keys; and something said to the bot. */
export function TryCall() {
  const { key = "" } = useParams()
  const developer = useMay("developer")
  useTitle(`Try a call on ${key}`)
  const operations = useData(
    `operations ${key}`,
    async () => (developer ? service.operations(key) : { items: [], next: null }),
    ({ channels }) => channels,
  )
  if (!developer) return <p className="p-4 text-sm">Only developers and owners try calls.</p>
  return (
    <div className="mx-auto grid w-full max-w-6xl gap-6 p-4">
      <div className="flex flex-wrap items-baseline gap-3">
        <h1 className="text-lg font-semibold">Try a call on {key}</h1>
        <Link to={`/channels/${key}`} className="text-sm underline">
          To the channel
        </Link>
      </div>
      {operations.error ? <Problem error={operations.error} /> : null}
      {operations.data ? <Calls channel={key} operations={operations.data.items} /> : null}
      <section aria-labelledby="say" className="grid max-w-xl gap-2 border-t border-line pt-4">
        <h2 id="say" className="text-base font-semibold">
          Say something
        </h2>
        <p className="text-sm text-quiet">
          A call as the provider would make it, signed and taken in at the inlet: no telephone is needed.
        </p>
        <SayBox channel={key} />
      </section>
    </div>
  )
}

interface Draft {
  operation: string
  method: Method
  path: string
  fields: [name: string, value: string][]
}

function draftOf(operation: OperationShown | undefined): Draft {
  const fields = [
    ...(operation?.fields ?? []).map((name): [string, string] => [name, ""]),
    ...Object.entries(operation?.usual ?? {}),
  ]
  return { operation: operation?.name ?? "", method: operation?.method ?? "GET", path: operation?.path ?? "/", fields }
}

function Calls({ channel, operations }: { channel: string; operations: OperationShown[] }) {
  const [draft, setDraft] = useState<Draft>(() => draftOf(operations[0]))
  const [tried, setTried] = useState<TriedShown>()
  const { act, busy, error } = useAct()
  const known = operations.find(({ name }) => name === draft.operation)
  const change = (part: Partial<Draft>) => {
    setTried(undefined)
    setDraft((before) => ({ ...before, ...part }))
  }
  const make = (really: boolean) =>
    act(async () => setTried(await service.tryCall(channel, { ...requestIn(draft), really })))
  const submit = (event: FormEvent) => {
    event.preventDefault()
    make(false)
  }
  const asks = tried !== undefined && !tried.answer && tried.failure === undefined
  return (
    <div className="grid gap-6 lg:grid-cols-2">
      <form onSubmit={submit} className="grid content-start gap-3 text-sm">
        <label>
          The call
          <select
            value={draft.operation}
            onChange={(event) => {
              setTried(undefined)
              setDraft(draftOf(operations.find(({ name }) => name === event.target.value)))
            }}
            className={`${field} w-full`}
          >
            {operations.map(({ name, says, method }) => (
              <option key={name} value={name}>
                {name} – {says}
                {method === "GET" ? "" : ` (${method})`}
              </option>
            ))}
            <option value="">any path below apiBase</option>
          </select>
        </label>
        {known ? (
          <p className="text-quiet">
            <code className="font-mono text-xs">
              {known.method} {known.path}
            </code>
          </p>
        ) : (
          <div className="flex gap-2">
            <label>
              Method
              <select
                value={draft.method}
                onChange={(event) => change({ method: event.target.value as Method })}
                className={`${field} block`}
              >
                {methods.map((method) => (
                  <option key={method}>{method}</option>
                ))}
              </select>
            </label>
            <label className="min-w-0 flex-1">
              Path
              <input
                value={draft.path}
                onChange={(event) => change({ path: event.target.value })}
                className={`${field} w-full`}
              />
            </label>
          </div>
        )}
        <Fields fields={draft.fields} change={(fields) => change({ fields })} />
        <div className="flex flex-wrap gap-2">
          <Button type="submit" kind="main" disabled={busy}>
            {draft.method === "GET" ? "Call it" : "Show the request"}
          </Button>
          {asks ? (
            <Button disabled={busy} onClick={() => make(true)}>
              Call it: it may change something
            </Button>
          ) : null}
        </div>
        {error ? <Problem error={error} /> : null}
      </form>
      <section
        aria-label="What was called, and the answer"
        aria-live="polite"
        className="grid min-w-0 content-start gap-4"
      >
        {tried ? (
          <Tried tried={tried} />
        ) : (
          <p className="text-sm text-quiet">The request and the raw answer stand here.</p>
        )}
      </section>
    </div>
  )
}

/** Fields of the call; an empty one is left out. */
function Fields({ fields, change }: { fields: Draft["fields"]; change: (fields: Draft["fields"]) => void }) {
  const set = (at: number, pair: [string, string]) => change(fields.map((one, n) => (n === at ? pair : one)))
  return (
    <fieldset className="grid gap-2">
      <legend className="font-semibold">Fields</legend>
      {fields.map(([name, value], at) => (
        <div key={at} className="flex gap-2">
          <input
            aria-label={`Name of field ${at + 1}`}
            value={name}
            onChange={(event) => set(at, [event.target.value, value])}
            className={`${field} w-2/5`}
          />
          <input
            aria-label={`Value of ${name || `field ${at + 1}`}`}
            value={value}
            onChange={(event) => set(at, [name, event.target.value])}
            className={`${field} min-w-0 flex-1`}
          />
        </div>
      ))}
      <div>
        <Button onClick={() => change([...fields, ["", ""]])}>Another field</Button>
      </div>
    </fieldset>
  )
}

function Tried({ tried: { request, answer, failure, milliseconds } }: { tried: TriedShown }) {
  return (
    <>
      <div>
        <h2 className="mb-1 text-sm font-semibold">The request, with its keys hidden</h2>
        <p className="mb-1 font-mono text-xs [overflow-wrap:anywhere]">
          {request.method} {shown(request.address)}
        </p>
        <Facts rows={Object.entries(request.headers).map(([name, value]) => [name, shown(value)])} />
        {request.body === undefined ? null : <Json value={parsed(request.body)} />}
      </div>
      {failure === undefined ? null : (
        <p role="alert" className="border-l-4 border-damson bg-damson-wash px-3 py-2 text-sm text-damson">
          No answer came after {milliseconds} ms: {shown(failure)}
        </p>
      )}
      {answer ? (
        <div className="min-w-0">
          <h2 className="mb-1 text-sm font-semibold">
            <span className={answer.status < 300 ? "" : "text-damson"}>
              {answer.status < 300 ? "●" : "✕"} {answer.status}
            </span>{" "}
            <span className="font-normal text-quiet">after {milliseconds} ms</span>
          </h2>
          <Json value={parsed(answer.body)} />
          {answer.cut === undefined ? null : (
            <p className="text-xs text-quiet">
              The first {answer.body.length} of {answer.cut} characters.
            </p>
          )}
          <details className="mt-2 text-sm">
            <summary className="min-h-6 cursor-pointer text-quiet">Headers of the answer</summary>
            <Facts rows={Object.entries(answer.headers).map(([name, value]) => [shown(name), shown(value)])} />
          </details>
        </div>
      ) : null}
    </>
  )
}

function parsed(text: string): unknown {
  try {
    return JSON.parse(text)
  } catch {
    return text
  }
}

function requestIn({ operation, method, path, fields }: Draft): Omit<TryRequest, "really"> {
  const given = Object.fromEntries(
    fields.filter(([name, value]) => name !== "" && value !== "").map(([name, value]) => [name, valueOf(value)]),
  )
  return operation === "" ? { method, path, fields: given } : { operation, fields: given }
}

/** Objects, lists, true, false and null are meant as such; all else is text. */
function valueOf(text: string): unknown {
  return /^(\{[\s\S]*\}|\[[\s\S]*\]|true|false|null)$/.test(text) ? parsed(text) : text
}
