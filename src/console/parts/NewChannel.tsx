import { useState } from "react"
import type { FormEvent } from "react"
import { ApiError } from "../../client/client.ts"
import type { FieldHelp } from "../../client/types.ts"
import { useAct, useData } from "../data.ts"
import { service } from "../service.ts"
import { Button, field, Problem } from "./basics.tsx"
import { sentence } from "./Rail.tsx"

const never = () => false

/** Adds a channel: asks for what the kind says it needs, in the kind's own words. */
export function NewChannel({ close, added }: { close: () => void; added: (key: string) => void }) {
  const kinds = useData("kinds", () => service.kinds(), never)
  const [kind, setKind] = useState("telegram")
  const [profile, setProfile] = useState("")
  const fields = useData(`kind ${kind} ${profile}`, () => service.kind(kind, profile || undefined), never)
  const { act, busy, error } = useAct()
  const wrong = error instanceof ApiError ? error.field : undefined
  const settings = fields.data?.settings.filter(({ name }) => name !== "profile") ?? []
  const speaksByProfile = fields.data?.settings.some(({ name }) => name === "profile") ?? false
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault()
    const given = new FormData(event.currentTarget)
    const key = textOf(given, "key")
    const taken = (names: FieldHelp[], where: string) =>
      Object.fromEntries(
        names.map(({ name }) => [name, textOf(given, `${where}.${name}`)]).filter(([, value]) => value !== ""),
      ) as { [name: string]: string }
    act(
      () =>
        service.addChannel({
          kind,
          key,
          settings: { ...taken(settings, "settings"), ...(profile ? { profile } : {}) },
          secrets: taken(fields.data?.secrets ?? [], "secrets"),
        }),
      () => added(key),
    )
  }
  return (
    <form onSubmit={submit} aria-label="A new channel" className="grid gap-4 border border-line bg-paper p-4 text-sm">
      <h2 className="text-base font-semibold">A new channel</h2>
      <div className="grid gap-x-6 gap-y-3 md:grid-cols-2">
        <label className="grid content-start gap-1">
          Kind
          <select
            value={kind}
            onChange={(event) => {
              setKind(event.target.value)
              setProfile("")
            }}
            className={field}
          >
            {(kinds.data?.items ?? [{ kind }]).map((one) => (
              <option key={one.kind}>{one.kind}</option>
            ))}
          </select>
        </label>
        <label className="grid content-start gap-1">
          Key
          <input
            name="key"
            required
            pattern="[a-z0-9][a-z0-9\-]{0,62}"
            title="small letters, digits and hyphens"
            placeholder={`quay-${kind}`}
            aria-invalid={wrong === "key"}
            className={field}
          />
          <span className="text-xs text-quiet">Its name here, and the end of its address: /in/quay-{kind}</span>
        </label>
        {speaksByProfile ? <Profile kind={kind} profile={profile} choose={setProfile} /> : null}
      </div>
      {fields.error ? <Problem error={fields.error} /> : null}
      <Group
        title="Secrets"
        note="Sealed when saved: nobody can read them again."
        where="secrets"
        fields={fields.data?.secrets ?? []}
        wrong={wrong}
      />
      <Group
        title="Settings"
        where="settings"
        fields={settings.filter(({ common, required }) => required || !common)}
        wrong={wrong}
      />
      <details>
        <summary className="min-h-6 cursor-pointer">More settings, which most channels do not need</summary>
        <div className="mt-3">
          <Group
            title=""
            where="settings"
            fields={settings.filter(({ common, required }) => common && !required)}
            wrong={wrong}
          />
        </div>
      </details>
      {error ? <Problem error={error} /> : null}
      <div className="flex gap-2">
        <Button type="submit" kind="main" disabled={busy || !fields.data}>
          Add the channel
        </Button>
        <Button onClick={close}>Cancel</Button>
      </div>
    </form>
  )
}

function Profile({ kind, profile, choose }: { kind: string; profile: string; choose: (name: string) => void }) {
  const { data } = useData("profiles", () => service.profiles(), never)
  return (
    <label className="grid content-start gap-1">
      How the gateway speaks
      <select value={profile} onChange={(event) => choose(event.target.value)} className={field}>
        <option value="">{kind === "custom" ? "not known yet: learned from its first call" : "form-gateway"}</option>
        {data?.items.map(({ name, title }) => (
          <option key={name} value={name}>
            {name}: {title}
          </option>
        ))}
      </select>
    </label>
  )
}

function Group({
  title,
  note,
  where,
  fields,
  wrong,
}: {
  title: string
  note?: string
  where: "settings" | "secrets"
  fields: FieldHelp[]
  wrong: string | undefined
}) {
  if (fields.length === 0) return null
  return (
    <fieldset className="grid gap-x-6 gap-y-3 md:grid-cols-2">
      {title ? <legend className="mb-1 font-semibold">{title}</legend> : null}
      {note ? <p className="text-xs text-quiet md:col-span-2">{note}</p> : null}
      {fields.map((one) => (
        <Field key={one.name} field={one} where={where} wrong={wrong === `${where}.${one.name}`} />
      ))}
    </fieldset>
  )
}

function Field({ field: asked, where, wrong }: { field: FieldHelp; where: string; wrong: boolean }) {
  const { name, says, required, options } = asked
  const given = { name: `${where}.${name}`, required, "aria-invalid": wrong, className: field }
  const usual = asked.default === undefined ? undefined : String(asked.default)
  return (
    <label className="grid content-start gap-1">
      <span>
        {name} {required ? null : <span className="text-quiet">(optional)</span>}
      </span>
      {options ? (
        <select {...given} defaultValue={usual ?? ""}>
          {required ? null : <option value="">{usual === undefined ? "left out" : `default: ${usual}`}</option>}
          {options.map((option) => (
            <option key={option}>{option}</option>
          ))}
        </select>
      ) : (
        <input
          {...given}
          type={where === "secrets" ? "password" : "text"}
          autoComplete="off"
          placeholder={usual ?? ""}
          spellCheck={false}
        />
      )}
      {says ? <span className="text-xs text-quiet">{sentence(says)}</span> : null}
    </label>
  )
}

function textOf(given: FormData, name: string): string {
  const value = given.get(name)
  return typeof value === "string" ? value.trim() : ""
}
