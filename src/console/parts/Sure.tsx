import { useState } from "react"
import { useAct } from "../data.ts"
import { Button, Problem } from "./basics.tsx"

/** What cannot be taken back is asked about first, with what will be lost, and says so when it fails. */
export function Sure({
  act: name,
  asks,
  run,
  done,
}: {
  act: string
  asks: string
  run: () => Promise<unknown>
  done: () => void
}) {
  const [asked, setAsked] = useState(false)
  const { act, busy, error } = useAct()
  if (!asked) return <Button onClick={() => setAsked(true)}>{name}</Button>
  return (
    <span role="group" aria-label={name} className="flex flex-wrap items-center gap-2">
      <span className="max-w-prose">{asks}</span>
      <Button kind="main" focused disabled={busy} onClick={() => act(run, () => (setAsked(false), done()))}>
        {name}
      </Button>
      <Button onClick={() => setAsked(false)}>Not now</Button>
      {error ? <Problem error={error} /> : null}
    </span>
  )
}
