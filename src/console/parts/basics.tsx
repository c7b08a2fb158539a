import { useEffect, useRef, useState } from "react"
import type { ReactNode, RefObject } from "react"
import { problemText } from "../service.ts"

export function Button({
  children,
  onClick,
  type = "button",
  kind = "plain",
  disabled = false,
}: {
  children: ReactNode
  onClick?: () => void
  type?: "button" | "submit"
  kind?: "plain" | "main"
  disabled?: boolean
}) {
  const look = kind === "main" ? "bg-spruce text-paper border-spruce" : "bg-paper border-line hover:border-spruce"
  return (
    <button
      type={type}
      {...(onClick ? { onClick } : {})}
      disabled={disabled}
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
  const [copied, setCopied] = useState(false)
  useEffect(() => {
    if (!copied) return
    const timer = setTimeout(() => setCopied(false), 1500)
    return () => clearTimeout(timer)
  }, [copied])
  return (
    <button
      type="button"
      className="cursor-pointer rounded-sm border border-line bg-paper px-2 py-0.5 text-xs hover:border-spruce"
      aria-label={`Copy ${what}`}
      onClick={() => void navigator.clipboard?.writeText(text).then(() => setCopied(true))}
    >
      {copied ? "copied" : "copy"}
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
    >
      {typeof value === "string" ? value : JSON.stringify(value, null, 2)}
    </pre>
  )
}

/** Arrow keys, or j and k, walk through the links of a list; Home and End go to its ends. */
export function useListKeys(): RefObject<HTMLDivElement | null> {
  const list = useRef<HTMLDivElement>(null)
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const inField = (event.target as HTMLElement).closest("input, textarea, select, [role=menu]")
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
  }, [])
  return list
}

export function Empty({ children }: { children: ReactNode }) {
  return <p className="px-4 py-8 text-center text-sm text-quiet">{children}</p>
}
