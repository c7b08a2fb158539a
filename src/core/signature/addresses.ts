import { withoutEnd } from "../message/trimmed.ts"
/** An address that a caller may have meant by the one we know, and in words how it differs. */
export interface AddressNeighbour {
  address: string
  differs: string
  /** What would have to be set as the public address for it to match; left out where that alone does not help. */
  base?: string
}

/** Hosts tried at most, of those that headers name. */
const mostHosts = 3

/** Hosts a caller may have named: its own header, and what a proxy says it was. */
type Headers = { [name: string]: string }

/**
 * The other ways in which the same call may have been addressed before whatever stands in between changed it: another
 * scheme, host or port, a slash more or less at the end, no query, or one that is encoded otherwise. Nearest first.
 *
 * @param seen scheme, host and port as this service believes them to be, then path and query
 */
export function addressNeighbours(seen: string, headers: Headers): AddressNeighbour[] {
  if (!URL.canParse(seen)) return []
  const { origin } = new URL(seen)
  const rest = seen.slice(origin.length)
  const at = rest.indexOf("?")
  const path = at === -1 ? rest : rest.slice(0, at)
  const query = at === -1 ? "" : rest.slice(at)
  const found: AddressNeighbour[] = []
  for (const base of [{ origin, differs: "" }, ...bases(origin, headers)]) {
    for (const ending of endings(path, query)) {
      const differs = [base.differs, ending.differs].filter(Boolean).join(", ")
      if (differs === "") continue
      found.push({
        address: base.origin + ending.rest,
        differs,
        ...(ending.differs === "" ? { base: base.origin } : {}),
      })
    }
  }
  // One change before two.
  return found.sort((a, b) => a.differs.split(", ").length - b.differs.split(", ").length)
}

function bases(origin: string, headers: Headers): { origin: string; differs: string }[] {
  const url = new URL(origin)
  const scheme = url.protocol.slice(0, -1)
  const other = scheme === "https" ? "http" : "https"
  const named = [headers["x-forwarded-host"], headers["x-original-host"], headers.host]
    .flatMap((value) => (value ?? "").split(","))
    .map((value) => value.trim().toLowerCase())
    .filter((value) => /^[a-z0-9.-]+(:\d+)?$/.test(value))
    // A caller may name thousands, to keep the service busy with them.
    .slice(0, mostHosts)
  const hosts: { host: string; differs: string }[] = [{ host: url.host, differs: "" }]
  if (url.port === "") {
    for (const [port, of] of [
      ["443", "https"],
      ["80", "http"],
    ])
      hosts.push({ host: `${url.host}:${port}`, differs: `with the port ${port} (${of}) written out` })
  } else hosts.push({ host: url.hostname, differs: `without the port ${url.port}` })
  for (const host of new Set(named)) {
    if (host === url.host) continue
    const bare = host.replace(/:\d+$/, "")
    const differs = bare === url.hostname ? `the port of ${host}` : `the host ${host}`
    if (!hosts.some((one) => one.host === host)) hosts.push({ host, differs })
    if (bare !== host && !hosts.some((host) => host.host === bare))
      hosts.push({ host: bare, differs: `the host ${bare}` })
  }
  return hosts.flatMap(({ host, differs }) =>
    [scheme, other].flatMap((one) => {
      const words = [one === scheme ? "" : `${one} instead of ${scheme}`, differs].filter(Boolean).join(", ")
      return words === "" ? [] : [{ origin: `${one}://${host}`, differs: words }]
    }),
  )
}

function endings(path: string, query: string): { rest: string; differs: string }[] {
  const slashed = path.endsWith("/")
  const paths = [
    { path, differs: "" },
    slashed
      ? { path: withoutEnd(path, "/"), differs: "without the slash at the end" }
      : { path: `${path}/`, differs: "with a slash at the end" },
  ]
  const queries = [{ query, differs: "" }]
  if (query !== "") {
    queries.push({ query: "", differs: "without the query" })
    const plain = decoded(query)
    if (plain !== query) queries.push({ query: plain, differs: "with the query decoded" })
    const encoded = encodeURI(plain)
    if (encoded !== query && encoded !== plain) queries.push({ query: encoded, differs: "with the query encoded" })
  }
  return paths.flatMap((path) =>
    queries.map((two) => ({
      rest: path.path + two.query,
      differs: [path.differs, two.differs].filter(Boolean).join(", "),
    })),
  )
}

/** Without its %XX; as it is where they do not make up text. */
export function decoded(text: string): string {
  try {
    return decodeURIComponent(text)
  } catch {
    return text
  }
}
