import type { FormEvent } from "react"
import { sendAgain, sendDraft, takeBack, useBox, write } from "../drafts.ts"
import { useMay } from "../visitor.ts"
import { Button } from "./basics.tsx"

/** Answers by hand. What is on its way stands above the box, which is free for the next text at once. */
export function AnswerBox({ id, name }: { id: string; name: string }) {
  const { draft, pending } = useBox(id)
  const operator = useMay("operator")
  if (!operator)
    return <p className="border-t border-line bg-paper p-3 text-xs text-quiet">Readers see, and do not answer.</p>
  const submit = (event: FormEvent) => {
    event.preventDefault()
    sendDraft(id)
  }
  return (
    <form onSubmit={submit} className="border-t border-line bg-paper p-3">
      {pending.length > 0 ? (
        <ol aria-label="On its way" className="m-0 mx-auto mb-2 grid max-w-4xl list-none gap-2 p-0 text-sm">
          {pending.map((one, at) => (
            <li
              key={one.key}
              className={`border-l-4 px-3 py-1 ${one.failed ? "border-damson bg-damson-wash" : "border-line bg-mist"}`}
            >
              <span className="whitespace-pre-wrap [overflow-wrap:anywhere]" dir="auto">
                {one.text}
              </span>
              {one.failed ? (
                <span role="alert" className="mt-1 flex flex-wrap items-center gap-2 text-xs text-damson">
                  <span>Perhaps not sent. {one.failed}</span>
                  <Button onClick={() => sendAgain(id)}>Send again</Button>
                  <Button onClick={() => takeBack(id, one.key)}>Back into the box</Button>
                </span>
              ) : (
                <span role="status" className="ml-2 text-xs text-quiet">
                  {at === 0 ? "on its way …" : "after the one above"}
                </span>
              )}
            </li>
          ))}
        </ol>
      ) : null}
      <div className="mx-auto flex max-w-4xl items-end gap-2">
        <textarea
          value={draft}
          rows={Math.min(6, draft.split("\n").length)}
          onChange={(event) => write(id, event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== "Enter" || event.shiftKey || event.nativeEvent.isComposing) return
            event.preventDefault()
            sendDraft(id)
          }}
          placeholder="Answer by hand (Shift+Enter for a new line)"
          aria-label={`Answer by hand to ${name}`}
          dir="auto"
          className="min-w-0 flex-1 resize-none border border-edge bg-mist px-3 py-2 text-sm"
        />
        <Button type="submit" kind="main" disabled={!draft.trim()}>
          Send
        </Button>
      </div>
    </form>
  )
}
