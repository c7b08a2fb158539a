import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react"
import { useEffect, useState } from "react"
import { Link, Navigate, NavLink, Route, Routes, useNavigate } from "react-router"
import { ApiError } from "../client/client.ts"
import { Access } from "./pages/Access.tsx"
import { Channels } from "./pages/Channels.tsx"
import { Conversations } from "./pages/Conversations.tsx"
import { Looks } from "./pages/Looks.tsx"
import { Parked } from "./pages/Parked.tsx"
import { PassagePage } from "./pages/PassagePage.tsx"
import { Passages } from "./pages/Passages.tsx"
import { SignIn } from "./pages/SignIn.tsx"
import { openLive, service, useData } from "./service.ts"
import type { Theme } from "./theme.ts"
import { clock } from "./time.ts"
import { chooseTheme, chosenTheme } from "./theme.ts"

interface Visitor {
  name: string
  role: string
}

/** Who is signed in decides between the sign-in and the pages. */
export function App() {
  const [visitor, setVisitor] = useState<Visitor | "nobody" | undefined>(undefined)
  const enter = (found: Visitor & { csrf?: string }) => {
    service.csrf = found.csrf
    setVisitor(found)
  }
  useEffect(() => {
    const once = new URLSearchParams(location.search).get("once")
    const spend = location.pathname === "/signin" && once !== null
    const asked = spend ? service.signInOnce(once) : service.session()
    asked
      .then((found) => {
        if (spend) history.replaceState(null, "", "/")
        enter(found)
      })
      .catch((error: Error) => {
        if (error instanceof ApiError && error.status < 500) setVisitor("nobody")
        else setTimeout(() => location.reload(), 3000)
      })
  }, [])
  if (visitor === undefined) return <p className="p-8 text-sm text-quiet">One moment …</p>
  if (visitor === "nobody") return <SignIn done={enter} />
  return <Signed visitor={visitor} leave={() => setVisitor("nobody")} />
}

/** Only owners have anything to do on the last. */
const pagesFor = (role: string) => pages.filter(({ path }) => path !== "/access" || role === "owner")

const pages = [
  { path: "/conversations", name: "Conversations" },
  { path: "/passages", name: "Passages" },
  { path: "/channels", name: "Channels" },
  { path: "/parked", name: "Parked" },
  { path: "/looks", name: "How it looks" },
  { path: "/access", name: "Access" },
]

function Signed({ visitor, leave }: { visitor: Visitor; leave: () => void }) {
  useEffect(() => openLive(), [])
  usePageKeys(pagesFor(visitor.role))
  const parked = useData("parked count", () => service.parked({ limit: 100 }))
  const waiting = parked.data?.items.length ?? 0
  return (
    <div className="flex min-h-dvh flex-col">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:bg-paper focus:p-2">
        To the page
      </a>
      <header className="flex flex-wrap items-center gap-x-6 gap-y-1 border-b border-line bg-paper px-4 py-2">
        <span className="flex items-center gap-2 font-semibold tracking-wide">
          <svg viewBox="0 0 34 16" width="34" height="16" aria-hidden="true">
            <path d="M4 8 H30" stroke="var(--spruce)" strokeWidth="3" />
            <circle cx="4" cy="8" r="4" fill="var(--spruce)" />
            <circle cx="17" cy="8" r="4" fill="var(--spruce)" />
            <circle cx="30" cy="8" r="3" fill="var(--paper)" stroke="var(--spruce)" strokeWidth="2" />
          </svg>
          Wobbet
        </span>
        <nav aria-label="Pages" className="order-3 flex w-full gap-1 overflow-x-auto sm:order-none sm:w-auto">
          {pagesFor(visitor.role).map((page) => (
            <NavLink
              key={page.path}
              to={page.path}
              className={({ isActive }) =>
                `border-b-2 px-2 py-1.5 text-sm whitespace-nowrap ${isActive ? "border-spruce font-semibold" : "border-transparent hover:border-line"}`
              }
            >
              {page.name}
              {page.path === "/parked" && waiting > 0 ? (
                <span
                  className="ml-1.5 rounded-sm bg-damson px-1.5 text-xs font-semibold text-paper"
                  aria-label={`${waiting} need you`}
                >
                  {waiting === 100 ? "100+" : waiting}
                </span>
              ) : null}
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto">
          <AccountMenu visitor={visitor} leave={leave} />
        </div>
      </header>
      <BotBanner />
      <ChannelsBanner />
      <main id="page" className="flex min-h-0 flex-1 flex-col">
        <Routes>
          <Route path="/conversations/:id?" element={<Conversations />} />
          <Route path="/passages" element={<Passages />} />
          <Route path="/passages/:id" element={<PassagePage />} />
          <Route path="/channels/:key?" element={<Channels />} />
          <Route path="/parked" element={<Parked />} />
          <Route path="/looks" element={<Looks />} />
          {visitor.role === "owner" ? <Route path="/access" element={<Access />} /> : null}
          <Route path="*" element={<Navigate to="/conversations" replace />} />
        </Routes>
      </main>
    </div>
  )
}

/** A bot folder with faults is shown on every page, with file, line and remedy. */
function BotBanner() {
  const { data } = useData("bot", () => service.bot())
  if (!data || data.faults.length === 0) return null
  return (
    <aside role="alert" className="border-b border-damson bg-damson-wash px-4 py-2 text-sm text-damson">
      <strong>The bot folder has faults.</strong>{" "}
      {data.release ? "The version before still answers." : "No bot answers until it is fixed."}
      <ul className="m-0 mt-1 list-none p-0">
        {data.faults.map((fault) => (
          <li key={`${fault.file}:${fault.line}:${fault.says}`}>
            <code className="font-mono">
              {[fault.file, fault.line, fault.column].filter((part) => part !== undefined).join(":")}
            </code>{" "}
            {fault.says}. {fault.remedy}
          </li>
        ))}
      </ul>
    </aside>
  )
}

/** A channel that learns, or whose calls are fetched from elsewhere, is said on every page while it lasts. */
function ChannelsBanner() {
  const { data } = useData("channels banner", () => service.channels())
  const special = data?.items.filter((item) => item.learning ?? item.bringing) ?? []
  if (special.length === 0) return null
  return (
    <aside role="status" className="border-b border-line bg-spruce-wash px-4 py-1.5 text-sm">
      {special.map(({ key, learning, bringing }) => (
        <p key={key}>
          ◐{" "}
          <Link to={`/channels/${key}`} className="font-semibold underline">
            {key}
          </Link>{" "}
          {learning
            ? `waits for a call to learn from, until ${clock(learning.until)} (begun by ${learning.by}): the next call is taken as a sample.`
            : `is not answered here: its calls are fetched by ${bringing!.by}, ${bringing!.waiting} wait.`}
        </p>
      ))}
    </aside>
  )
}

const themes: { id: Theme; name: string }[] = [
  { id: "system", name: "As the system" },
  { id: "light", name: "Light" },
  { id: "dark", name: "Dark" },
]

function AccountMenu({ visitor, leave }: { visitor: Visitor; leave: () => void }) {
  const [theme, setTheme] = useState(chosenTheme())
  const item = "block w-full cursor-pointer px-3 py-1.5 text-left text-sm data-focus:bg-spruce-wash"
  return (
    <Menu>
      <MenuButton className="cursor-pointer rounded-sm border border-line px-3 py-1 text-sm hover:border-spruce">
        {visitor.name} <span className="text-quiet">({visitor.role})</span>
      </MenuButton>
      <MenuItems anchor="bottom end" className="z-10 mt-1 w-56 border border-line bg-paper py-1 shadow-md">
        {themes.map(({ id, name }) => (
          <MenuItem key={id}>
            <button
              type="button"
              className={item}
              onClick={() => {
                chooseTheme(id)
                setTheme(id)
              }}
            >
              {theme === id ? "● " : "○ "}
              {name}
            </button>
          </MenuItem>
        ))}
        <MenuItem>
          <button
            type="button"
            className={`${item} border-t border-line`}
            onClick={() => void service.signOut().then(leave)}
          >
            Sign out
          </button>
        </MenuItem>
        <p className="border-t border-line px-3 py-1.5 text-xs text-quiet">
          Keys: 1 to {pagesFor(visitor.role).length} pages, ↑ ↓ or j k in lists, / search
        </p>
      </MenuItems>
    </Menu>
  )
}

/** The digits go to the pages, the slash to the search field. */
function usePageKeys(offered: typeof pages) {
  const navigate = useNavigate()
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (
        (event.target as HTMLElement).closest("input, textarea, select") ||
        event.metaKey ||
        event.ctrlKey ||
        event.altKey
      )
        return
      const page = offered[Number(event.key) - 1]
      if (page) void navigate(page.path)
      if (event.key === "/") {
        const search = document.querySelector<HTMLElement>("input[type=search]")
        if (search) event.preventDefault()
        search?.focus()
      }
    }
    document.addEventListener("keydown", onKey)
    return () => document.removeEventListener("keydown", onKey)
  }, [navigate])
}
