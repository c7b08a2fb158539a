import { useEffect, useState } from "react"
import type { KindLook, LookView } from "../../client/types.ts"
import { Button, Problem } from "../parts/basics.tsx"
import { useData } from "../data.ts"
import { service } from "../service.ts"
import { useTitle } from "../visitor.ts"

/** What can be tried at a press: the same reply the ferry would give. */
const examples = [
  {
    name: "Words",
    text: "Next boat to *Holm Island*: **14:20**, 32 seats free.\n\n- then 15:20\n- then 16:20",
    options: "",
    picture: "",
  },
  {
    name: "A question",
    text: "Which crossing would you like?",
    options: "14:20 to Holm Island\n15:20 to Tern Point\n16:20 to Holm Island",
    picture: "",
  },
  {
    name: "A card",
    text: "Holm Island tours\nTwo hours, every morning at ten. Which one would you like to hear about?",
    options: "Lighthouse walk\nSeal bay",
    picture: "https://ferry.example/holm-island.png",
  },
  {
    name: "Many options",
    text: "Which day would you like?",
    options: Array.from({ length: 12 }, (_none, at) => `${at + 1} December`).join("\n"),
    picture: "",
  },
] as const

/** One reply, written once, as each kind of channel will show it. */
export function Looks() {
  useTitle("How it looks")
  const [text, setText] = useState<string>(examples[2].text)
  const [options, setOptions] = useState<string>(examples[2].options)
  const [picture, setPicture] = useState<string>(examples[2].picture)
  const [shown, setShown] = useState<KindLook[]>([])
  const [error, setError] = useState<Error>()
  const reply = replyOf(text, options, picture)
  const asked = JSON.stringify(reply)
  useEffect(() => {
    let stale = false
    const timer = setTimeout(() => {
      service.looks(JSON.parse(asked) as object[]).then(
        ({ items }) => !stale && (setShown(items), setError(undefined)),
        (fault: Error) => !stale && setError(fault),
      )
    }, 250)
    return () => {
      stale = true
      clearTimeout(timer)
    }
  }, [asked])
  const field = "w-full rounded-sm border border-edge bg-paper px-2.5 py-1.5 text-sm"
  return (
    <div className="mx-auto w-full max-w-7xl p-4">
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <h1 className="mr-4 text-lg font-semibold">How it looks</h1>
        {examples.map((example) => (
          <Button
            key={example.name}
            onClick={() => {
              setText(example.text)
              setOptions(example.options)
              setPicture(example.picture)
            }}
          >
            {example.name}
          </Button>
        ))}
      </div>
      <form className="mb-4 grid gap-3 md:grid-cols-[2fr_1fr_1fr]" onSubmit={(event) => event.preventDefault()}>
        <label className="text-sm">
          What is said, in light markup
          <textarea
            className={`${field} h-28 font-mono`}
            value={text}
            onChange={(event) => setText(event.target.value)}
          />
          <SingleAsterisks text={text} />
        </label>
        <label className="text-sm">
          Options, one a line
          <textarea className={`${field} h-28`} value={options} onChange={(event) => setOptions(event.target.value)} />
        </label>
        <div className="text-sm">
          <label>
            A picture’s address
            <input className={field} value={picture} onChange={(event) => setPicture(event.target.value)} />
          </label>
          <p className="mt-2 text-xs text-quiet">
            With a picture and options it is a card: the first line is its title, the rest its subtitle. Nothing is
            sent.
          </p>
        </div>
      </form>
      {error ? <Problem error={error} /> : null}
      <div className="grid items-start gap-4 sm:grid-cols-2 xl:grid-cols-5">
        {shown.map((one) => (
          <OnKind key={one.kind} look={one} />
        ))}
      </div>
      <PartsTable />
    </div>
  )
}

/** Some providers write bold so themselves; here it means italic on all of them. */
function SingleAsterisks({ text }: { text: string }) {
  const found = /(?<![*\\\w])\*(?=[^*\s])([^*\n]{1,60})(?<=[^*\s])\*(?![*\w])/.exec(text)
  if (!found) return null
  return (
    <span role="note" className="mt-1 block text-xs text-quiet">
      One asterisk is italic: <i>{found[1]}</i>. For bold, write <code>**{found[1]}**</code>.
    </span>
  )
}

function replyOf(text: string, options: string, picture: string): object[] {
  const choices = options
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean)
    .map((label, at) => ({ id: `option:${at + 1}`, label }))
  if (picture && choices.length > 0) {
    const [title, ...rest] = text.split("\n")
    const subtitle = rest.join("\n").trim()
    return [{ part: "cards", cards: [{ title: title || "…", picture, choices, ...(subtitle ? { subtitle } : {}) }] }]
  }
  if (picture) return [{ part: "media", kind: "image", url: picture, ...(text ? { caption: text } : {}) }]
  return choices.length > 0 ? [{ part: "choices", text: text || "…", choices }] : [{ part: "text", text: text || "…" }]
}

function OnKind({ look }: { look: KindLook }) {
  const name = look.title
  const parts = look.parts.reduce(
    (sum, part) => sum + part.looks.reduce((all, one) => all + (one.segments?.count ?? 0), 0),
    0,
  )
  return (
    <article className="border border-line bg-paper" aria-label={name}>
      <header className="flex items-baseline justify-between gap-2 border-b border-line px-3 py-2">
        <h2 className="text-sm font-semibold">{name}</h2>
        <span className="text-xs text-quiet tabular-nums">
          {look.parts.reduce((sum, part) => sum + part.looks.length, 0)} sent
          {parts > 0 ? `, ${parts} ${parts === 1 ? "segment" : "segments"}` : ""}
        </span>
      </header>
      <div className="grid gap-2 bg-mist p-3">
        {look.parts.flatMap((part) => part.looks.map((one, at) => <Seen key={`${part.part} ${at}`} look={one} />))}
      </div>
      {look.parts.map((part) =>
        [part.impossible, part.leftOut, ...part.degraded].filter(Boolean).map((note) => (
          <p key={note} className="border-t border-line px-3 py-2 text-xs">
            <span aria-hidden="true">◐ </span>
            {note}
          </p>
        )),
      )}
    </article>
  )
}

function Seen({ look }: { look: LookView }) {
  return (
    <div className="border-l-2 border-spruce bg-paper">
      {look.picture ? (
        <div className="border-b border-line bg-spruce-wash px-3 py-5 text-center font-mono text-xs [overflow-wrap:anywhere] text-quiet">
          {look.picture.split("/").at(-1)}
        </div>
      ) : null}
      {look.words.length > 0 ? (
        <p
          className="m-0 max-h-80 overflow-auto px-3 py-2 text-sm whitespace-pre-wrap [overflow-wrap:anywhere]"
          tabIndex={0}
        >
          {look.words.map((word, at) => (
            <Words key={at} as={word.as} text={word.text} />
          ))}
        </p>
      ) : null}
      {look.with ? <p className="m-0 px-3 py-1 text-xs text-quiet">({look.with})</p> : null}
      {look.beside ? (
        <div className="flex gap-2 overflow-x-auto p-2">
          {look.beside.map((one, at) => (
            <div key={at} className="w-36 shrink-0 border border-line">
              <Seen look={one} />
            </div>
          ))}
        </div>
      ) : null}
      {look.options?.length ? (
        <ul className="m-0 grid list-none gap-px border-t border-line bg-line p-0">
          {look.options.map((option) => (
            <li key={option.label} className="flex justify-between gap-2 bg-paper px-3 py-1.5 text-sm">
              <span>{option.label}</span>
              <span className="text-xs text-quiet">{option.as}</span>
            </li>
          ))}
        </ul>
      ) : null}
      {look.segments ? (
        <p className="m-0 border-t border-line px-3 py-1 text-xs text-quiet tabular-nums">
          {look.segments.count} {look.segments.count === 1 ? "segment" : "segments"} of {look.segments.alphabet},{" "}
          {look.segments.left} left
        </p>
      ) : null}
    </div>
  )
}

function Words({ as, text }: { as: "bold" | "italic" | "code" | "link" | undefined; text: string }) {
  switch (as) {
    case "bold":
      return <b>{text}</b>
    case "italic":
      return <i>{text}</i>
    case "code":
      return <code className="bg-mist px-1 font-mono text-xs">{text}</code>
    case "link":
      return <u>{text}</u>
    default:
      return text
  }
}

const signs = { native: "●", simpler: "◐", words: "○", "left out": "–" }

/** Every part on every kind, as the kinds themselves tell it. */
function PartsTable() {
  const { data } = useData(
    "kinds",
    () => service.kinds(),
    () => false,
  )
  const kinds = data?.items ?? []
  const [first] = kinds
  if (!first) return null
  return (
    <section className="mt-6 border-t border-line pt-4">
      <h2 className="mb-2 text-base font-semibold">What each kind can show</h2>
      <p className="mb-2 text-sm text-quiet">● its own, ◐ in a simpler form of its own, ○ in words, – left out</p>
      <div className="relative overflow-x-auto" tabIndex={0} role="region" aria-label="What each kind can show">
        <table className="w-full min-w-[60rem] border-collapse text-sm">
          <thead>
            <tr>
              <th className="border-b border-line p-2 text-left">part</th>
              {kinds.map((kind) => (
                <th key={kind.kind} className="border-b border-line p-2 text-left">
                  {kind.kind}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {Object.keys(first.abilities.parts).map((part) => (
              <tr key={part} className="align-top">
                <th className="border-b border-line p-2 text-left font-normal">{part}</th>
                {kinds.map((kind) => {
                  const { how, as } = kind.abilities.parts[part]!
                  return (
                    <td key={kind.kind} className="border-b border-line p-2">
                      <span aria-label={how}>{signs[how]}</span> <span className="text-xs text-quiet">{as}</span>
                    </td>
                  )
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  )
}
