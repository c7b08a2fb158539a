import { useState } from "react"
import { Link } from "react-router"
import { shown } from "../../client/shown.ts"
import type { ChannelCheck, CheckLine, HandValue } from "../../client/types.ts"
import { useAct } from "../data.ts"
import { service } from "../service.ts"
import { useMay } from "../visitor.ts"
import { Button, Copy, Problem } from "./basics.tsx"
import { sentence } from "./Rail.tsx"

const signs: { [mark in CheckLine["mark"]]: { sign: string; word: string } } = {
  right: { sign: "●", word: "right" },
  wrong: { sign: "✕", word: "wrong" },
  open: { sign: "○", word: "not known" },
  left: { sign: "·", word: "not looked at" },
}

/** The line from the keys to the last call, to the first thing that is wrong. */
export function CheckList({ check }: { check: ChannelCheck }) {
  return (
    <section aria-label="Is it connected?" className="mb-4 border border-line bg-mist p-3">
      <h3 className="mb-2 text-sm font-semibold">
        {check.ok ? "It is connected, as far as can be seen from here." : "Something on its line is wrong."}
      </h3>
      <ol className="m-0 list-none p-0">
        {check.lines.map((line, at) => (
          <Line key={`${line.about} ${line.says}`} line={line} repeated={check.lines[at - 1]?.about === line.about} />
        ))}
      </ol>
      {check.resumed ? <p className="mt-2 text-sm">The lock-out is over; what waited is being sent.</p> : null}
    </section>
  )
}

function Line({ line, repeated }: { line: CheckLine; repeated: boolean }) {
  const { sign, word } = signs[line.mark]
  const wrong = line.mark === "wrong"
  return (
    <li
      className={`grid grid-cols-[1.25rem_8.5rem_1fr] gap-x-2 border-l-4 py-1 pl-2 text-sm max-sm:grid-cols-[1.25rem_1fr] ${wrong ? "border-damson bg-damson-wash text-damson" : line.mark === "left" ? "border-transparent text-quiet" : "border-transparent"}`}
    >
      <span aria-label={word} role="img">
        {sign}
      </span>
      <span className={wrong ? "font-semibold" : "text-quiet"}>{repeated ? "" : line.about}</span>
      <span className="min-w-0 [overflow-wrap:anywhere] max-sm:col-start-2">
        {sentence(line.says)}
        {line.remedy && line.mark !== "left" ? (
          <span className={`block ${wrong ? "font-semibold" : "text-quiet"}`}>{shown(line.remedy)}</span>
        ) : null}
        {line.passage ? (
          <Link to={`/passages/${line.passage}`} className="block underline">
            The passage of that call
          </Link>
        ) : null}
      </span>
    </li>
  )
}

/** What a person enters in the provider's own pages. */
export function ByHand({ values, channel }: { values: HandValue[]; channel?: string }) {
  const hidden = values.some(({ value }) => /=… \(the secret /.test(value))
  return (
    <>
      <h3 className="mt-3 mb-1 text-sm font-semibold">To be entered at the provider, by hand</h3>
      <dl className="m-0 grid gap-1.5 text-sm">
        {values.map(({ field, value, done }) => (
          <div key={field}>
            <dt className="text-quiet">
              {field}
              {done === undefined ? null : (
                <span className={done ? "text-spruce" : "text-damson"}> · {done ? "● done" : "✕ not done"}</span>
              )}
            </dt>
            <dd className="m-0 flex items-center gap-2">
              {isCopied(value) ? (
                <>
                  <code className="min-w-0 font-mono text-xs [overflow-wrap:anywhere]">{value}</code>
                  <Copy text={value} what={field} />
                </>
              ) : (
                value
              )}
            </dd>
          </div>
        ))}
      </dl>
      {hidden && channel ? <WholeAddress channel={channel} /> : null}
    </>
  )
}

/** Addresses and lists of names are copied; switches and advice are read. */
function isCopied(value: string): boolean {
  return /^https?:\/\/|^[\w.:]+(, [\w.:]+)+$/.test(value)
}

/** The address with the word in it stands nowhere else, and is shown once. */
function WholeAddress({ channel }: { channel: string }) {
  const { act, busy, error } = useAct()
  const [address, setAddress] = useState<string>()
  if (!useMay("developer")) return null
  if (address)
    return (
      <p
        role="status"
        className="mt-2 flex flex-wrap items-center gap-2 border-l-4 border-spruce bg-spruce-wash px-3 py-2 text-sm"
      >
        The whole address, shown this once:{" "}
        <code className="font-mono text-xs [overflow-wrap:anywhere]">{address}</code>
        <Copy text={address} what="the whole address" />
      </p>
    )
  return (
    <div className="mt-2">
      <Button
        disabled={busy}
        onClick={() => act(async () => setAddress((await service.wholeAddress(channel)).address))}
      >
        Show the whole address, once
      </Button>
      {error ? <Problem error={error} /> : null}
    </div>
  )
}
