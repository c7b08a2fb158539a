import { useEffect, useState } from "react"
import { useSearchParams } from "react-router"

/** What is searched for stands in the address, so that it can be returned to and passed on. */
export function SearchBox({ words, placeholder, label }: { words: string; placeholder: string; label: string }) {
  const [, setSearch] = useSearchParams()
  const [text, setText] = useState(words)
  useEffect(() => setText((before) => (before.trim() === words ? before : words)), [words])
  useEffect(() => {
    if (text.trim() === words) return
    const timer = setTimeout(
      () =>
        setSearch(
          (before) => {
            const next = new URLSearchParams(before)
            if (text.trim()) next.set("q", text.trim())
            else next.delete("q")
            return next
          },
          { replace: true },
        ),
      250,
    )
    return () => clearTimeout(timer)
  }, [text, words])
  return (
    <div className="border-b border-line p-2">
      <input
        type="search"
        value={text}
        onChange={(event) => setText(event.target.value)}
        placeholder={placeholder}
        aria-label={label}
        className="w-full border border-edge bg-mist px-2 py-1 text-sm"
      />
    </div>
  )
}
