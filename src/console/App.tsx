import { lazy, Suspense, useEffect, useLayoutEffect, useRef, useState } from "react"
import { Navigate, NavLink, Route, Routes, useLocation, useNavigate, useNavigationType } from "react-router"
import { ApiError } from "../client/client.ts"
import { forgetSeen, useData } from "./data.ts"
import { boxesOf, forgetBoxes } from "./drafts.ts"
import { openLive, tryNow, useLive } from "./live.ts"
import { Conversations } from "./pages/Conversations.tsx"
import { Parked } from "./pages/Parked.tsx"
import { PassagePage } from "./pages/PassagePage.tsx"
import { Passages } from "./pages/Passages.tsx"
import { SignIn } from "./pages/SignIn.tsx"
import { AccountMenu } from "./parts/AccountMenu.tsx"
import { Banners } from "./parts/Banners.tsx"
import { Empty } from "./parts/basics.tsx"
import { Boundary } from "./parts/Boundary.tsx"
import { service } from "./service.ts"
import type { Visitor } from "./visitor.ts"
import { may, VisitorContext } from "./visitor.ts"

// What is looked at less often comes when it is asked for.
const Access = lazy(async () => ({ default: (await import("./pages/Access.tsx")).Access }))
const Channels = lazy(async () => ({ default: (await import("./pages/Channels.tsx")).Channels }))
const TryCall = lazy(async () => ({ default: (await import("./pages/TryCall.tsx")).TryCall }))
const People = lazy(async () => ({ default: (await import("./pages/People.tsx")).People }))
const RoutesPage = lazy(async () => ({ default: (await import("./pages/RoutesPage.tsx")).RoutesPage }))
const Notices = lazy(async () => ({ default: (await import("./pages/Notices.tsx")).Notices }))
const Elsewhere = lazy(async () => ({ default: (await import("./pages/Elsewhere.tsx")).Elsewhere }))
const Looks = lazy(async () => ({ default: (await import("./pages/Looks.tsx")).Looks }))

/** Who is signed in decides between the sign-in and the pages. */
export function App() {
  const [visitor, setVisitor] = useState<Visitor | "nobody" | undefined>(undefined)
  const [ended, setEnded] = useState(false)
  const [away, setAway] = useState(false)
  const enter = (found: Visitor & { csrf?: string }) => {
    service.csrf = found.csrf
    boxesOf(found.name)
    setEnded(false)
    setVisitor(found)
  }
  const leave = () => {
    forgetBoxes()
    forgetSeen()
    setVisitor("nobody")
  }
  useEffect(() => {
    // Whatever is asked for once the session has ended leads to the sign-in, and from there back to the same page.
    service.refused = () =>
      setVisitor((before) => {
        if (before !== undefined && before !== "nobody") setEnded(true)
        return before === undefined ? before : "nobody"
      })
    const once = new URLSearchParams(location.search).get("once")
    const spend = location.pathname === "/signin" && once !== null
    let timer: ReturnType<typeof setTimeout>
    const ask = () =>
      void (spend ? service.signInOnce(once) : service.session())
        .then((found) => {
          if (spend) history.replaceState(null, "", "/")
          enter(found)
        })
        .catch((error: Error) => {
          if (error instanceof ApiError && error.status < 500) return setVisitor("nobody")
          setAway(true)
          timer = setTimeout(ask, 3000)
        })
    ask()
    return () => clearTimeout(timer)
  }, [])
  if (visitor === undefined)
    return (
      <p role="status" className="p-8 text-sm text-quiet">
        {away ? "The service does not answer. It is asked again every 3 s." : "One moment …"}
      </p>
    )
  if (visitor === "nobody") return <SignIn done={enter} ended={ended} />
  return (
    <VisitorContext value={visitor}>
      <Signed visitor={visitor} leave={leave} />
    </VisitorContext>
  )
}

const pages = [
  { path: "/conversations", name: "Conversations" },
  { path: "/people", name: "People" },
  { path: "/passages", name: "Passages" },
  { path: "/routes", name: "Routes" },
  { path: "/channels", name: "Channels" },
  { path: "/elsewhere", name: "Elsewhere" },
  { path: "/parked", name: "Parked" },
  { path: "/notices", name: "Notices" },
  { path: "/looks", name: "How it looks" },
  { path: "/access", name: "Access" },
]

/** Only owners have anything to do on the last. */
const pagesFor = (visitor: Visitor) => pages.filter(({ path }) => path !== "/access" || may(visitor, "owner"))

function Signed({ visitor, leave }: { visitor: Visitor; leave: () => void }) {
  useEffect(() => openLive(), [])
  const offered = pagesFor(visitor)
  usePageKeys(offered)
  const page = useScrollBack()
  const { pathname } = useLocation()
  return (
    <div className="flex h-dvh flex-col">
      <a
        href="#page"
        onClick={(event) => {
          event.preventDefault()
          page.current?.focus()
        }}
        className="sr-only focus:not-sr-only focus:absolute focus:z-20 focus:bg-paper focus:p-2"
      >
        To the page
      </a>
      <header className="flex flex-wrap items-center gap-x-6 gap-y-1 border-b border-line bg-paper px-4 py-2">
        <span className="flex items-center gap-2 font-semibold tracking-wide">
          <Mark />
          Wobbet
        </span>
        <nav aria-label="Pages" className="relative order-3 flex w-full gap-1 overflow-x-auto sm:order-none sm:w-auto">
          {offered.map(({ path, name }) => (
            <NavLink
              key={path}
              to={path}
              className={({ isActive }) =>
                `border-b-2 px-2 py-1.5 text-sm whitespace-nowrap ${isActive ? "border-spruce font-semibold" : "border-transparent hover:border-line"}`
              }
            >
              {name}
              {path === "/parked" ? <NeedYou /> : null}
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto flex items-center gap-3">
          <LiveMark />
          <AccountMenu visitor={visitor} pages={offered.length} leave={leave} />
        </div>
      </header>
      <main
        id="page"
        ref={page}
        tabIndex={-1}
        className="relative flex min-h-0 flex-1 flex-col overflow-y-auto outline-none"
      >
        <Boundary at={pathname}>
          <Suspense fallback={<Empty>One moment …</Empty>}>
            <Routes>
              <Route path="/conversations/:id?" element={<Conversations />} />
              <Route path="/people/:contact?" element={<People />} />
              <Route path="/passages" element={<Passages />} />
              <Route path="/passages/:id" element={<PassagePage />} />
              <Route path="/routes" element={<RoutesPage />} />
              <Route path="/channels/:key?" element={<Channels />} />
              <Route path="/channels/:key/try" element={<TryCall />} />
              <Route path="/elsewhere/:queue?" element={<Elsewhere />} />
              <Route path="/parked" element={<Parked />} />
              <Route path="/notices/:id?" element={<Notices />} />
              <Route path="/looks" element={<Looks />} />
              {may(visitor, "owner") ? <Route path="/access" element={<Access />} /> : null}
              <Route path="*" element={<Navigate to="/conversations" replace />} />
            </Routes>
          </Suspense>
        </Boundary>
      </main>
      {/* Below the page: what appears here moves nothing that is being read. */}
      <Boundary>
        <Banners />
      </Boundary>
    </div>
  )
}

function Mark() {
  return (
    <svg viewBox="0 0 34 16" width="34" height="16" aria-hidden="true">
      <path d="M4 8 H30" stroke="var(--spruce)" strokeWidth="3" />
      <circle cx="4" cy="8" r="4" fill="var(--spruce)" />
      <circle cx="17" cy="8" r="4" fill="var(--spruce)" />
      <circle cx="30" cy="8" r="3" fill="var(--paper)" stroke="var(--spruce)" strokeWidth="2" />
    </svg>
  )
}

function NeedYou() {
  const { data } = useData(
    "parked count",
    () => service.parked({ limit: 100 }),
    ({ parked, channels }) => parked || channels,
  )
  const waiting = data?.items.length ?? 0
  if (waiting === 0) return null
  return (
    <span className="ml-1.5 rounded-sm bg-damson px-1.5 text-xs font-semibold text-paper">
      {waiting === 100 ? "100+" : waiting}
      <span className="sr-only"> need you</span>
    </span>
  )
}

/** Whether what is shown is what there is. */
function LiveMark() {
  const state = useLive()
  const [now, setNow] = useState(Date.now())
  const broken = state?.live === false
  useEffect(() => {
    if (!broken) return
    setNow(Date.now())
    const timer = setInterval(() => setNow(Date.now()), 1000)
    return () => clearInterval(timer)
  }, [broken])
  if (state === undefined) return null
  if (state.live)
    return (
      <span role="status" className="text-xs text-quiet">
        <span aria-hidden="true">●</span> live
      </span>
    )
  const seconds = Math.ceil((state.retryAt - now) / 1000)
  return (
    <span className="flex items-center gap-2 text-xs text-damson" title={state.why.message}>
      <span role="status">
        <span aria-hidden="true">✕</span> Not live
      </span>
      {seconds > 1 ? <span className="tabular-nums max-sm:hidden">trying again in {seconds} s</span> : null}
      <button
        type="button"
        onClick={tryNow}
        className="min-h-6 cursor-pointer rounded-sm border border-damson px-2 whitespace-nowrap"
      >
        Try now
      </button>
    </span>
  )
}

/** Where each place in the history was scrolled to. */
const places = new Map<string, number>()

/** Back returns to where one was; every other way leads to the top of a page. */
function useScrollBack() {
  const page = useRef<HTMLElement>(null)
  const { key, pathname } = useLocation()
  const way = useNavigationType()
  const current = useRef(key)
  useEffect(() => {
    const element = page.current!
    const note = () => void places.set(current.current, element.scrollTop)
    element.addEventListener("scroll", note, { passive: true })
    return () => element.removeEventListener("scroll", note)
  }, [])
  useLayoutEffect(() => {
    // Before anything scrolls: what another page's shortness does to this one's place is not the reader's doing.
    current.current = key
  }, [key])
  useLayoutEffect(() => {
    page.current!.scrollTop = way === "POP" ? (places.get(key) ?? 0) : 0
  }, [pathname])
  return page
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
