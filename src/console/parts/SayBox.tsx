import { useState } from "react"
import type { FormEvent } from "react"
import { Link } from "react-router"
import { shown } from "../../client/shown.ts"
import type { SaidShown } from "../../client/types.ts"
import { useAct } from "../data.ts"
import { service } from "../service.ts"
import { useMay } from "../visitor.ts"
import { Button, field, Problem } from "./basics.tsx"

/** Bytes of a file that is said with it. */
const largest = 10_000_000

/**
 * Says something to the bot as the provider would bring it, so that nobody needs a telephone.
 *
 * @param at whom it is said as and where; a made-up person where nobody is named
 */
export function SayBox({
  channel,
  at = {},
}: {
  channel: string
  at?: { from?: string; name?: string; place?: string }
}) {
  const { act, busy, error } = useAct()
  const [text, setText] = useState("")
  const [press, setPress] = useState("")
  const [file, setFile] = useState<File>()
  const [said, setSaid] = useState<SaidShown>()
  if (!useMay("developer")) return null
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault()
    const form = event.currentTarget
    act(
      async () =>
        setSaid(
          await service.say(channel, {
            ...at,
            ...(text ? { text } : {}),
            ...(press ? { press } : {}),
            ...(file ? { media: await mediaOf(file) } : {}),
          }),
        ),
      () => {
        setText("")
        setFile(undefined)
        form.reset()
      },
    )
  }
  return (
    <form onSubmit={submit} className="grid gap-2 text-sm">
      <label>
        What {at.name === undefined ? "a made-up person" : shown(at.name)} says
        <textarea
          value={text}
          rows={2}
          onChange={(event) => setText(event.target.value)}
          className={`${field} w-full`}
          dir="auto"
        />
      </label>
      <details>
        <summary className="min-h-6 cursor-pointer text-quiet">A press, or a file</summary>
        <div className="mt-2 grid gap-2">
          <label>
            The id of an option that is pressed
            <input value={press} onChange={(event) => setPress(event.target.value)} className={`${field} w-full`} />
          </label>
          <label>
            A picture, sound or file
            <input
              type="file"
              onChange={(event) => setFile(event.target.files?.[0])}
              className={`${field} block w-full`}
            />
          </label>
        </div>
      </details>
      <div className="flex flex-wrap items-center gap-3">
        <Button type="submit" disabled={busy || (!text && !press && !file)}>
          Say it
        </Button>
        <span className="text-xs text-quiet">Marked as simulated; the reply is captured, not sent.</span>
      </div>
      {said ? (
        <p role="status" className="text-xs">
          Said. {said.captured ? "The reply is captured. " : "The reply goes to the stand-in. "}
          <Link to={`/passages/${said.passage}`} className="underline">
            Its passage
          </Link>
        </p>
      ) : null}
      {error ? <Problem error={error} /> : null}
    </form>
  )
}

async function mediaOf(file: File): Promise<{ data: string; mime: string; name: string }> {
  if (file.size > largest) throw new Error(`${file.name} is larger than ${largest / 1e6} MB. Choose a smaller file.`)
  const bytes = new Uint8Array(await file.arrayBuffer())
  let text = ""
  for (let at = 0; at < bytes.length; at += 8192) text += String.fromCharCode(...bytes.subarray(at, at + 8192))
  return { data: btoa(text), mime: file.type || "application/octet-stream", name: file.name }
}
