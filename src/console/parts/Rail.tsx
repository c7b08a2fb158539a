import { shown } from "../../client/shown.ts"
import type { MessageView, Stop } from "../../client/types.ts"
import { needsYou, railWord } from "../../client/rail.ts"
import { clock, span } from "../time.ts"

const words: Record<Stop["state"], string> = {
  done: "done",
  "under way": "under way",
  stopped: "stopped here",
  ahead: "not reached",
  skipped: "not needed",
  untold: "not told",
}

/** The shape of a stop, which says its state without colour. Drawn in a square of 20 around the middle. */
function StopShape({ stop }: { stop: Stop }) {
  switch (stop.state) {
    case "done":
      return <circle r="6.5" fill="var(--spruce)" />
    case "under way":
      return (
        <g className="under-way">
          <circle r="6" fill="var(--paper)" stroke="var(--spruce)" strokeWidth="2" />
          <path d="M0 -6 A6 6 0 0 1 0 6 Z" fill="var(--spruce)" />
        </g>
      )
    case "stopped":
      return (
        <g stroke={needsYou(stop) ? "var(--damson)" : "var(--spruce)"} strokeWidth="3" strokeLinecap="round">
          <path d="M-5.5 -5.5 L5.5 5.5 M5.5 -5.5 L-5.5 5.5" />
        </g>
      )
    case "skipped":
      return <circle r="2" fill="var(--quiet)" />
    case "untold":
      return <circle r="6" fill="var(--paper)" stroke="var(--quiet)" strokeWidth="1.5" strokeDasharray="2.5 2.5" />
    case "ahead":
      return <circle r="6" fill="var(--paper)" stroke="var(--quiet)" strokeWidth="1.5" />
  }
}

/** The rail between two stops: laid where the passage went, sleepers only where it has not come yet, a gap where it broke. */
function Track({ from, to, length }: { from: Stop["state"]; to: Stop["state"]; length: number }) {
  if (from === "stopped") return <path d={`M16 -5 V5 M${length - 14} -4 V4`} stroke="var(--quiet)" strokeWidth="1.5" />
  const went = from === "done" && (to === "done" || to === "stopped" || to === "under way")
  if (went) return <path d={`M0 0 H${length}`} stroke="var(--spruce)" strokeWidth="3" />
  return <path d={`M9 0 H${length - 9}`} stroke="var(--quiet)" strokeWidth="1.5" strokeDasharray="1.5 5" />
}

/** The small rail that stands in every list. */
export function SmallRail({ stops }: { stops: Stop[] }) {
  const { word, why } = railWord(stops)
  const step = 24
  return (
    <svg
      viewBox="0 0 170 20"
      width="119"
      height="14"
      role="img"
      aria-label={`${word}${why ? `: ${why}` : ""}`}
      className="shrink-0"
    >
      <title>{why ? `${word}: ${why}` : word}</title>
      {stops.slice(0, -1).map((stop, at) => (
        <g key={stop.stop} transform={`translate(${13 + at * step} 10)`}>
          {stop.state === "stopped" ? null : <Track from={stop.state} to={stops[at + 1]!.state} length={step} />}
        </g>
      ))}
      {stops.map((stop, at) => (
        <g key={stop.stop} transform={`translate(${13 + at * step} 10)`}>
          <StopShape stop={stop} />
        </g>
      ))}
    </svg>
  )
}

export function RailWord({ stops }: { stops: Stop[] }) {
  const { word, tone } = railWord(stops)
  return (
    <span
      className={
        tone === "needs you"
          ? "font-semibold text-damson"
          : tone === "stopped"
            ? "font-semibold"
            : tone === "calm"
              ? "text-quiet"
              : ""
      }
    >
      {word}
    </span>
  )
}

/** What became of a message, by the same word as everywhere. */
export function MessageWord({ message }: { message: MessageView }) {
  return <RailWord stops={message.stops ?? []} />
}

/** A passage as its rail: seven stops, each with a shape, a word and a time; where it broke, the reason beneath. */
export function Rail({ stops }: { stops: Stop[] }) {
  const stopped = stops.find((stop) => stop.state === "stopped")
  return (
    <figure aria-label="The passage" className="m-0">
      <ol className="m-0 grid list-none grid-cols-1 p-0 sm:grid-cols-7">
        {stops.map((stop, at) => (
          <RailStop key={stop.stop} stop={stop} before={stops[at - 1]} next={stops[at + 1]} />
        ))}
      </ol>
      {stopped ? (
        <figcaption
          className={`relative mt-4 border-t-2 px-4 py-3 ${needsYou(stopped) ? "border-damson bg-damson-wash text-damson" : "border-spruce bg-spruce-wash"}`}
        >
          <svg
            width="20"
            height="10"
            viewBox="0 0 20 10"
            className="absolute -top-2.5 max-sm:hidden"
            style={{ left: `${(stops.indexOf(stopped) * 100) / 7}%` }}
            aria-hidden="true"
          >
            <path d="M0 10 L12 0 L20 10 Z" fill={needsYou(stopped) ? "var(--damson)" : "var(--spruce)"} />
          </svg>
          <strong className="font-semibold">Stopped at “{stopped.stop}”.</strong> {sentence(stopped.why ?? "")}
        </figcaption>
      ) : null}
    </figure>
  )
}

function RailStop({ stop, before, next }: { stop: Stop; before: Stop | undefined; next: Stop | undefined }) {
  const length = 200
  const since = stop.at && before?.at ? Date.parse(stop.at) - Date.parse(before.at) : undefined
  const faint = stop.state === "ahead" || stop.state === "skipped"
  return (
    <li className="relative grid grid-cols-[2.5rem_1fr] items-start gap-x-2 pb-3 sm:block sm:pr-3 sm:pb-0">
      <svg className="absolute top-6 left-[0.8rem] h-full w-4 overflow-hidden sm:hidden" aria-hidden="true">
        {next && stop.state !== "stopped" ? <path d="M8 2 V200" stroke="var(--line)" strokeWidth="2" /> : null}
      </svg>
      <div className="relative h-6 overflow-hidden sm:mr-[-0.75rem]">
        {next ? (
          <svg
            width={length}
            height="24"
            viewBox={`0 -12 ${length} 24`}
            preserveAspectRatio="none"
            className="absolute left-[10px] hidden w-full sm:block"
            aria-hidden="true"
          >
            <Track from={stop.state} to={next.state} length={length} />
          </svg>
        ) : null}
        <svg
          width="24"
          height="24"
          viewBox="-12 -12 24 24"
          className="absolute left-0 max-sm:left-2"
          aria-hidden="true"
        >
          <circle r="9" fill="var(--paper)" />
          <StopShape stop={stop} />
        </svg>
      </div>
      <div className="sm:mt-1">
        <div className={`text-sm font-semibold ${needsYou(stop) ? "text-damson" : faint ? "text-quiet" : ""}`}>
          {stop.stop} <span className="sr-only">({words[stop.state]})</span>
        </div>
        <div className="text-xs text-quiet">
          {stop.at && !faint ? (
            <>
              {clock(stop.at)}
              {since !== undefined && since > 0 ? <span> · +{span(since)}</span> : null}
            </>
          ) : (
            words[stop.state]
          )}
        </div>
        {stop.why && stop.state !== "stopped" ? (
          <div className="mt-1 text-xs [overflow-wrap:anywhere]">{stop.why}</div>
        ) : null}
      </div>
    </li>
  )
}

export function sentence(text: string): string {
  if (text === "") return ""
  const whole = shown(text[0]!.toUpperCase() + text.slice(1))
  return /[.!?…]$/.test(whole) ? whole : `${whole}.`
}
