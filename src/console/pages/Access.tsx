import { useState } from "react"
import type { FormEvent, ReactNode } from "react"
import type { AuditShown, SessionShown, TokenShown } from "../../client/types.ts"
import { useData } from "../data.ts"
import { Button, Copy, Empty, field, Problem } from "../parts/basics.tsx"
import { Sure } from "../parts/Sure.tsx"
import { service } from "../service.ts"
import { when } from "../time.ts"
import { roles, useTitle } from "../visitor.ts"

/** Who may come in, who is in, and who did what; for owners. */
export function Access() {
  useTitle("Access")
  return (
    <div className="mx-auto w-full max-w-6xl p-4">
      <h1 className="mb-3 text-lg font-semibold">Access</h1>
      <Tokens />
      <Sessions />
      <Audit />
    </div>
  )
}

function Tokens() {
  const { data, error, again } = useData("tokens", () => service.tokens())
  return (
    <Part id="tokens" title="Tokens" error={error}>
      <NewToken made={again} />
      <Rows name="Tokens" head={["name", "role", "made", "used last", "valid until", ""]}>
        {data?.items.map((token) => (
          <TokenRow key={token.id} token={token} again={again} />
        ))}
      </Rows>
    </Part>
  )
}

function NewToken({ made }: { made: () => void }) {
  const [token, setToken] = useState<string>()
  const [error, setError] = useState<Error>()
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault()
    const form = event.currentTarget
    const given = new FormData(form)
    const days = String(given.get("days"))
    setError(undefined)
    service
      .makeToken(
        String(given.get("name")),
        String(given.get("role")),
        undefined,
        days === "" ? undefined : Number(days),
      )
      .then((answer) => {
        setToken(answer.token)
        form.reset()
        made()
      }, setError)
  }
  return (
    <>
      <form onSubmit={submit} className="mb-2 flex flex-wrap items-end gap-3 text-sm">
        <label className="flex flex-col gap-1">
          Whose it is
          <input name="name" required maxLength={100} className={field} />
        </label>
        <label className="flex flex-col gap-1">
          Role
          <select name="role" className={field}>
            {roles.map((role) => (
              <option key={role}>{role}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1">
          Valid for how many days
          <input name="days" type="number" min="1" max="3650" placeholder="without end" className={`${field} w-36`} />
        </label>
        <Button type="submit">Make a token</Button>
      </form>
      {error ? <Problem error={error} /> : null}
      {token ? (
        <p role="status" className="mb-2 border-l-4 border-spruce bg-spruce-wash px-4 py-2 text-sm">
          The token, shown this once: <code className="font-mono [overflow-wrap:anywhere]">{token}</code>{" "}
          <Copy text={token} what="the token" />
        </p>
      ) : null}
    </>
  )
}

function TokenRow({ token, again }: { token: TokenShown; again: () => void }) {
  const over = token.revokedAt ?? (token.expiresAt && Date.parse(token.expiresAt) < Date.now())
  return (
    <tr className={`border-b border-line last:border-b-0 ${over ? "text-quiet" : ""}`}>
      <Cell>{token.name}</Cell>
      <Cell>{token.channel || token.queue ? `${token.role} (${token.channel ?? token.queue})` : token.role}</Cell>
      <Cell>
        {when(token.madeAt)}
        {token.madeBy ? `, by ${token.madeBy}` : ""}
      </Cell>
      <Cell>{when(token.usedAt)}</Cell>
      <Cell>
        {token.revokedAt ? `revoked ${when(token.revokedAt)}` : token.expiresAt ? when(token.expiresAt) : "without end"}
      </Cell>
      <Cell>
        {over ? null : (
          <Sure
            act="Revoke"
            asks={`Revoke ${token.name}? It no longer works, and sessions that began with it end.`}
            run={() => service.revokeToken(token.id)}
            done={again}
          />
        )}
      </Cell>
    </tr>
  )
}

function Sessions() {
  const { data, error, again } = useData("sessions", () => service.sessions())
  return (
    <Part id="sessions" title="Signed in" error={error}>
      <Rows name="Signed in" head={["who", "role", "from", "since", "used last", ""]}>
        {data?.items.map((session: SessionShown) => (
          <tr key={session.id} className="border-b border-line last:border-b-0">
            <Cell>{session.name}</Cell>
            <Cell>{session.role}</Cell>
            <Cell>{session.address ?? "–"}</Cell>
            <Cell>{when(session.startedAt)}</Cell>
            <Cell>{when(session.usedAt)}</Cell>
            <Cell>
              <Sure
                act="End"
                asks={`End this session of ${session.name}? Whoever is in it is signed out.`}
                run={() => service.endSession(session.id)}
                done={again}
              />
            </Cell>
          </tr>
        ))}
      </Rows>
    </Part>
  )
}

function Audit() {
  const { data, error } = useData("audit", () => service.audit({ limit: 50 }))
  const [older, setOlder] = useState<{ items: AuditShown[]; next: string | null }>()
  const [failed, setFailed] = useState<Error>()
  const next = older ? older.next : (data?.next ?? null)
  const more = () =>
    void service
      .audit({ limit: 50, cursor: next! })
      .then((page) => setOlder({ items: [...(older?.items ?? []), ...page.items], next: page.next }), setFailed)
  const items = [...(data?.items ?? []), ...(older?.items ?? [])]
  const shown = [...new Map(items.map((one) => [one.id, one])).values()]
  return (
    <Part id="audit" title="Who did what" error={error ?? failed}>
      <Rows name="Who did what" head={["when", "who", "from", "did", "what"]}>
        {shown.map((one) => (
          <tr key={one.id} className="border-b border-line align-baseline last:border-b-0">
            <Cell>{when(one.at)}</Cell>
            <Cell>{one.who}</Cell>
            <Cell>{one.address ?? "–"}</Cell>
            <Cell>{one.did}</Cell>
            <Cell>
              <span className="text-quiet [overflow-wrap:anywhere]">{inWords(one.detail)}</span>
            </Cell>
          </tr>
        ))}
      </Rows>
      {shown.length === 0 && data ? <Empty>Nothing was done yet.</Empty> : null}
      {next === null ? null : (
        <div className="mt-2">
          <Button onClick={more}>Show older</Button>
        </div>
      )}
    </Part>
  )
}

function inWords(detail: AuditShown["detail"]): string {
  return Object.entries(detail ?? {})
    .filter(([, value]) => !Array.isArray(value) || value.length > 0)
    .map(([name, value]) => `${name} ${typeof value === "string" ? value : JSON.stringify(value)}`)
    .join(", ")
}

function Part({
  id,
  title,
  error,
  children,
}: {
  id: string
  title: string
  error: Error | undefined
  children: ReactNode
}) {
  return (
    <section aria-labelledby={id} className="mb-8">
      <h2 id={id} className="mb-2 text-base font-semibold">
        {title}
      </h2>
      {error ? <Problem error={error} /> : null}
      {children}
    </section>
  )
}

function Rows({ name, head, children }: { name: string; head: string[]; children: ReactNode }) {
  return (
    <div className="relative overflow-x-auto border border-line bg-paper" tabIndex={0} role="group" aria-label={name}>
      <table className="w-full text-sm">
        <thead>
          <tr className="border-b border-line text-left">
            {head.map((name) => (
              <th key={name} scope="col" className="px-3 py-1.5 font-normal whitespace-nowrap text-quiet">
                {name === "" ? <span className="sr-only">actions</span> : name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  )
}

function Cell({ children }: { children: ReactNode }) {
  return <td className="px-3 py-1.5 tabular-nums">{children}</td>
}
