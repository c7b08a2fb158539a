import type { SessionView } from "../../client/types.ts"
import { useState } from "react"
import type { FormEvent } from "react"
import { Button, Problem } from "../parts/basics.tsx"
import { service } from "../service.ts"
import { useTitle } from "../visitor.ts"

export function SignIn({ done, ended }: { done: (visitor: SessionView) => void; ended: boolean }) {
  useTitle("Sign in")
  const [token, setToken] = useState("")
  const [error, setError] = useState<Error>()
  const [busy, setBusy] = useState(false)
  const spent = location.pathname === "/signin"
  const submit = (event: FormEvent) => {
    event.preventDefault()
    setBusy(true)
    service
      .signIn(token.trim())
      .then((visitor) => {
        if (spent) history.replaceState(null, "", "/")
        done(visitor)
      }, setError)
      .finally(() => setBusy(false))
  }
  return (
    <main className="mx-auto flex min-h-dvh max-w-md flex-col justify-center gap-4 p-6">
      <h1 className="text-xl font-semibold">Sign in to Wobbet</h1>
      {spent ? (
        <p className="text-sm">
          This one-time address has been used, or is too old. Sign in with a token, or start the demo again for a new
          one.
        </p>
      ) : null}
      {ended ? (
        <p role="status" className="text-sm">
          Your session has ended. Sign in again, and you are back on the page where you were; what you had written is
          kept.
        </p>
      ) : null}
      <form onSubmit={submit} className="flex flex-col gap-3">
        <label className="flex flex-col gap-1 text-sm">
          Token
          <input
            type="password"
            autoComplete="current-password"
            value={token}
            onChange={(event) => setToken(event.target.value)}
            required
            className="border border-edge bg-paper px-3 py-2 font-mono"
          />
        </label>
        <Button type="submit" kind="main" disabled={busy}>
          Sign in
        </Button>
      </form>
      {error ? <Problem error={error} /> : null}
      <p className="text-sm text-quiet">
        On the machine where the service runs, the token is in the file <code className="font-mono">.wobbet/token</code>
        .
      </p>
    </main>
  )
}
