import { useEffect, useRef, useState } from "react"
import type { ReactNode, RefObject } from "react"
import { shown, shownJson } from "../../client/shown.ts"
import { copy } from "../browser.ts"
import { problemText } from "../service.ts"

export function Button({
  children,
  onClick,
  type = "button",
  kind = "plain",
  disabled = false,
  focused = false,
}: {
  children: ReactNode
  onClick?: () => void
  type?: "button" | "submit"
  kind?: "plain" | "main"
  disabled?: boolean
  /** Whether the focus goes there as soon as it is drawn. */
  focused?: boolean
}) {
  const look = kind === "main" ? "bg-spruce text-paper border-spruce" : "bg-paper border-edge hover:border-spruce"
  return (
    <button
      type={type}
      {...(onClick ? { onClick } : {})}
      disabled={disabled}
      autoFocus={focused}
      className={`cursor-pointer rounded-sm border px-3 py-1.5 text-sm disabled:cursor-default disabled:opacity-50 ${look}`}
    >
      {children}
    </button>
  )
}

export function Problem({ error }: { error: Error }) {
  return (
    <p role="alert" className="border-l-4 border-damson bg-damson-wash px-4 py-2 text-sm text-damson">
      {problemText(error)}
    </p>
  )
}

export function Copy({ text, what }: { text: string; what: string }) {
  const [said, setSaid] = useState<"copied" | "not allowed here">()
  useEffect(() => {
    if (!said) return
    const timer = setTimeout(() => setSaid(undefined), 2500)
    return () => clearTimeout(timer)
  }, [said])
  return (
    <button
      type="button"
      className="min-h-6 shrink-0 cursor-pointer rounded-sm border border-edge bg-paper px-2 text-xs hover:border-spruce"
      onClick={() => void copy(text).then((done) => setSaid(done ? "copied" : "not allowed here"))}
    >
      {said ?? (
        <>
          copy<span className="sr-only"> {what}</span>
        </>
      )}
    </button>
  )
}

export function Section({ title, children, aside }: { title: string; children: ReactNode; aside?: ReactNode }) {
  return (
    <section className="border-t border-line pt-4">
      <div className="mb-2 flex items-baseline justify-between gap-4">
        <h2 className="text-base font-semibold">{title}</h2>
        {aside}
      </div>
      {children}
    </section>
  )
}

/** Names and values in two columns. */
export function Facts({ rows }: { rows: [name: string, value: ReactNode][] }) {
  return (
    <dl className="grid grid-cols-[minmax(6rem,auto)_1fr] gap-x-4 gap-y-1 text-sm">
      {rows
        .filter(([, value]) => value !== undefined && value !== null && value !== "")
        .map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-quiet">{name}</dt>
            <dd className="m-0 min-w-0 [overflow-wrap:anywhere]">{value}</dd>
          </div>
        ))}
    </dl>
  )
}

export function Json({ value }: { value: unknown }) {
  return (
    <pre
      className="m-0 max-h-96 overflow-auto border border-line bg-paper p-3 font-mono text-xs leading-relaxed"
      tabIndex={0}
      dir="auto"
    >
      {typeof value === "string" ? shown(value) : shownJson(value, 2)}
    </pre>
  )
}

/** Arrow keys, or j and k, walk through the links of a list; Home and End go to its ends. */
export function useListKeys(list: RefObject<HTMLDivElement | null>): void {
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const inField = (event.target as HTMLElement).closest("input, textarea, select, [role=menu], [data-own-keys]")
      if (inField || event.metaKey || event.ctrlKey || event.altKey || !list.current) return
      const links = [...list.current.querySelectorAll<HTMLElement>("a[data-row]")]
      const at = links.indexOf(document.activeElement as HTMLElement)
      const to =
        event.key === "ArrowDown" || event.key === "j"
          ? Math.min(at + 1, links.length - 1)
          : event.key === "ArrowUp" || event.key === "k"
            ? Math.max(at - 1, 0)
            : event.key === "Home"
              ? 0
              : event.key === "End"
                ? links.length - 1
                : undefined
      if (to === undefined || !links[to]) return
      event.preventDefault()
      links[to].focus()
    }
    document.addEventListener("keydown", onKey)
    return () => document.removeEventListener("keydown", onKey)
  }, [list])
}

/** How fields look. */
export const field = "min-h-8 border border-edge bg-paper px-2 py-1 text-sm"

/** Says that something new waits, where it would move what is being read. */
export function Fresh({ many, show, below = false }: { many: number; show: () => void; below?: boolean }) {
  if (many === 0) return null
  return (
    <button
      type="button"
      onClick={show}
      className="cursor-pointer rounded-sm bg-spruce px-3 py-1 text-sm text-paper shadow-md"
    >
      {many} new <span aria-hidden="true">{below ? "↓" : "↑"}</span>
    </button>
  )
}

/** The next page of a list: shown on request, or as soon as its end comes into view. */
export function More({ more, loading, name }: { more: (() => void) | undefined; loading: boolean; name: string }) {
  const end = useRef<HTMLDivElement>(null)
  const latest = useRef(more)
  latest.current = more
  useEffect(() => {
    if (!end.current) return
    const seen = new IntersectionObserver(
      (entries) => entries.some((entry) => entry.isIntersecting) && latest.current?.(),
      { rootMargin: "200px" },
    )
    seen.observe(end.current)
    return () => seen.disconnect()
  }, [more === undefined, loading])
  if (!more) return null
  return (
    <div ref={end} className="p-3 text-center">
      <Button onClick={more} disabled={loading}>
        {loading ? "One moment …" : name}
      </Button>
    </div>
  )
}

/** In place of a page that has not been read yet: that it comes, or why it does not. */
export function Waiting({ error }: { error: Error | undefined }) {
  if (!error) return <Empty>One moment …</Empty>
  return (
    <div className="p-4">
      <Problem error={error} />
    </div>
  )
}

export function Empty({ children }: { children: ReactNode }) {
  return <p className="px-4 py-8 text-center text-sm text-quiet">{children}</p>
}
