import { useEffect, useState } from "react"
import type { FormEvent } from "react"
import { shown } from "../../client/shown.ts"
import { harRequests } from "../../client/har.ts"
import type { ChannelShown, ExamplesShown, FieldRole, LearnedAgreement, LearningShown } from "../../client/types.ts"
import { service } from "../service.ts"
import { clock } from "../time.ts"
import { Button, Problem } from "./basics.tsx"
import { sentence } from "./Rail.tsx"

const roleWords: { [role in FieldRole]: string } = {
  from: "the sender",
  text: "the text",
  id: "the message’s id",
  time: "its time",
  name: "the sender’s name",
  place: "the conversation",
  media: "a picture or file",
  mime: "its sort",
}

type Sample = NonNullable<LearningShown["sample"]>
type Places = { [role in FieldRole]?: string }

const field = "w-full border border-edge bg-paper px-2 py-1 text-sm"

/** What a call seems to mean, to be corrected and agreed to. */
export function Agree({
  channel,
  sample,
  act,
}: {
  channel: ChannelShown
  sample: Sample
  act: (run: () => Promise<unknown>) => void
}) {
  const [places, setPlaces] = useState<{ [role in FieldRole]?: string }>(sample.roles)
  const take = (where: string, role: string) =>
    setPlaces((before) => {
      const kept = Object.entries(before).filter(([one, at]) => one !== role && at !== where)
      return Object.fromEntries(role === "" ? kept : [...kept, [role, where]])
    })
  const agree = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault()
    const given = new FormData(event.currentTarget)
    act(async () => service.agreeToLearned(channel.key, agreementIn(given, sample, places)))
  }
  return (
    <form onSubmit={agree} className="grid gap-3 text-sm">
      <h3 className="font-semibold">
        A call came at {clock(sample.at)}: {sample.call.method} with {sample.body}
      </h3>
      <Fields sample={sample} places={places} take={take} />
      {sample.doubts.map((doubt) => (
        <p key={doubt} role="note" className="border-l-4 border-damson bg-damson-wash px-3 py-1 text-damson">
          Not certain: {shown(doubt)}. Look at the table above.
        </p>
      ))}
      {sample.own ? (
        <label className="flex gap-2">
          <input type="checkbox" name="own" defaultChecked /> Our own words are those where{" "}
          <code className="font-mono text-xs">{shown(sample.own.where)}</code> is{" "}
          {shown(sample.own.values.join(" or "))}
        </label>
      ) : null}
      <AlsoFound more={sample.more} />
      <Proofs sample={sample} />
      <Sending channel={channel} />
      <label className="flex gap-2">
        <input type="checkbox" name="names" /> People are names of the gateway’s own, not telephone numbers
      </label>
      <div className="flex gap-2">
        <Button type="submit" kind="main">
          Agree, and write the profile
        </Button>
        <Button onClick={() => act(() => service.stopLearning(channel.key))}>Forget it</Button>
      </div>
    </form>
  )
}

/** What the samples tell beside sender and text; it goes into the profile with them. */
function AlsoFound({ more }: { more: Sample["more"] }) {
  const found = [
    more.status && "reports of delivery",
    more.state && "the account’s state",
    more.handshake && "a check of the address",
    ...Object.keys(more.message ?? {}),
  ].filter(Boolean)
  return found.length === 0 ? null : <p>● Also found: {shown(found.join(", "))}</p>
}

/** The fields of the call, and what each is taken as. */
function Fields({
  sample,
  places,
  take,
}: {
  sample: Sample
  places: Places
  take: (where: string, role: string) => void
}) {
  return (
    <table className="w-full border-collapse text-left">
      <thead className="text-quiet">
        <tr>
          <th className="py-1 pr-4 font-normal">field</th>
          <th className="py-1 pr-4 font-normal">value</th>
          <th className="py-1 font-normal">taken as</th>
        </tr>
      </thead>
      <tbody>
        {sample.fields.map(({ where, value, role, certainty, otherwise = [] }) => (
          <tr key={where} className="border-t border-line">
            <td className="py-1 pr-4 font-mono text-xs [overflow-wrap:anywhere]">{shown(where)}</td>
            <td className="py-1 pr-4 [overflow-wrap:anywhere]">{shown(value)}</td>
            <td className="py-1">
              <select
                aria-label={`What ${where} is`}
                value={Object.entries(places).find(([, at]) => at === where)?.[0] ?? ""}
                onChange={(event) => take(where, event.target.value)}
                className="min-h-6 w-full max-w-52 border border-edge bg-paper px-1 max-sm:max-w-28"
              >
                <option value="">nothing that is needed</option>
                {Object.entries(roleWords).map(([role, words]) => (
                  <option key={role} value={role}>
                    {words}
                  </option>
                ))}
              </select>
              {role && places[role] === where && certainty !== "sure" ? (
                <span className="block text-xs text-quiet">
                  {certainty}
                  {otherwise.length > 0 ? `; it could be ${shown(otherwise.join(", "))}` : ""}
                </span>
              ) : null}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** How the call may prove that it is genuine. */
function Proofs({ sample }: { sample: Sample }) {
  return (
    <fieldset className="grid gap-1">
      <legend className="font-semibold">How it proves that it is genuine</legend>
      {sample.proofs.map((proof, at) => (
        <label key={proof.says} className="flex gap-2">
          <input type="radio" name="proof" value={at} defaultChecked={at === 0} />
          <span>
            {proof.certain ? "● " : "○ "}
            {sentence(proof.says)}
          </span>
        </label>
      ))}
      {sample.lacks.map((lack) => (
        <p key={lack} className="text-damson">
          {sentence(lack)}
        </p>
      ))}
      {sample.proofs.some((proof) => !proof.certain) ? (
        <label>
          Its secret, where it is not set yet
          <input name="secret" type="password" autoComplete="off" className={field} />
        </label>
      ) : null}
    </fieldset>
  )
}

/** Where and how an answer is posted: by an example of the gateway's documentation, or field by field. */
function Sending({ channel }: { channel: ChannelShown }) {
  const [example, setExample] = useState("")
  const byHand = example.trim() === ""
  return (
    <fieldset className="grid gap-2 sm:grid-cols-2">
      <legend className="font-semibold">How it is answered</legend>
      <div className="sm:col-span-2">
        <label>
          The example request of its documentation: a curl command, HTTP, or a HAR entry; keys in it are taken out
          <textarea
            name="example"
            rows={4}
            value={example}
            onChange={(event) => setExample(event.target.value)}
            spellCheck={false}
            className={`${field} font-mono text-xs`}
          />
        </label>
        {byHand ? null : <Example text={example} name={channel.key} />}
      </div>
      <label>
        The gateway’s address (apiBase)
        <input
          name="apiBase"
          type="url"
          required={byHand}
          defaultValue={typeof channel.settings.apiBase === "string" ? channel.settings.apiBase : ""}
          placeholder={byHand ? "https://gateway.example" : "as in the example"}
          className={field}
        />
      </label>
      {byHand ? (
        <>
          <label>
            Where a message is posted
            <input name="address" required defaultValue="{apiBase}/messages" className={field} />
          </label>
          <label>
            What is posted, as JSON
            <input
              name="send"
              required
              defaultValue='{ "to": "{to}", "text": "{text}" }'
              className={`${field} font-mono text-xs`}
            />
          </label>
          <label>
            As
            <select name="body" className={field}>
              <option value="json">JSON</option>
              <option value="form">a form</option>
            </select>
          </label>
          <label>
            The key for sending (a bearer key)
            <input name="key" type="password" autoComplete="off" className={field} />
          </label>
        </>
      ) : null}
      <label>
        The profile’s name
        <input name="name" required defaultValue={channel.key} pattern="[a-z0-9][a-z0-9\-]*" className={field} />
      </label>
    </fieldset>
  )
}

/** What an example seems to be, and the settings and secrets it asks for. */
function Example({ text, name }: { text: string; name: string }) {
  const [read, setRead] = useState<ExamplesShown>()
  const [error, setError] = useState<Error>()
  useEffect(() => {
    let stale = false
    const told = (found: ExamplesShown | undefined, fault: Error | undefined) => {
      if (stale) return
      setRead(found)
      setError(fault)
    }
    const timer = setTimeout(() => {
      service.fromRequests({ examples: [{ text: oneEntry(text) }], name }).then(
        (found) => told(found, undefined),
        (fault: Error) => told(undefined, fault),
      )
    }, 400)
    return () => {
      stale = true
      clearTimeout(timer)
    }
  }, [text, name])
  if (error) return <Problem error={error} />
  if (!read) return null
  return (
    <div role="status" className="mt-2 grid gap-2 border-l-4 border-spruce bg-spruce-wash px-3 py-2">
      {read.calls.map(({ sort, calling, found, stays }) => (
        <div key={calling.address}>
          <p>
            {sort}:{" "}
            <code className="font-mono text-xs [overflow-wrap:anywhere]">
              {calling.method} {shown(calling.address)}
            </code>
          </p>
          <p className="text-xs text-quiet">{found.map((one) => shown(one)).join("; ")}</p>
          {stays.length > 0 ? <p className="text-xs">The same for everybody: {shown(stays.join("; "))}</p> : null}
        </div>
      ))}
      {[...read.lacks, ...read.doubts, ...(read.faults ?? [])].map((one) => (
        <p key={one} className="text-damson">
          {sentence(shown(one))}
        </p>
      ))}
      {read.settings.map(({ name: asked, says, example }) => (
        <label key={asked}>
          The setting {asked} ({shown(says)})
          <input name={`set ${asked}`} required placeholder={example} className={field} />
        </label>
      ))}
      {read.secrets.map(({ name: asked }) => (
        <label key={asked}>
          The secret {asked}
          <input name={`secret ${asked}`} type="password" required autoComplete="off" className={field} />
        </label>
      ))}
    </div>
  )
}

/** Of a HAR file with one request, that request. */
function oneEntry(text: string): string {
  const requests = harRequests(text)
  return requests?.length === 1 ? requests[0]!.entry : text
}

/** The fields of a form whose names begin so, by the rest of their names. */
function begunWith(given: FormData, begin: string): { [name: string]: string } {
  return Object.fromEntries(
    [...given].flatMap(([name, value]) =>
      name.startsWith(begin) && typeof value === "string" && value !== "" ? [[name.slice(begin.length), value]] : [],
    ),
  )
}

function agreementIn(given: FormData, sample: Sample, places: Places): LearnedAgreement {
  const text = (name: string) => {
    const value = given.get(name)
    return typeof value === "string" ? value.trim() : ""
  }
  const proof = sample.proofs[Number(text("proof") || 0)]
  return {
    name: text("name"),
    places,
    ...(sample.own && given.get("own") ? { own: sample.own } : {}),
    ...(given.get("names") ? { addresses: "names" as const } : {}),
    ...(proof ? { proof: proof.scheme } : {}),
    ...(text("example")
      ? { requests: [{ text: oneEntry(text("example")) }] }
      : {
          sending: {
            address: text("address"),
            body: text("body") as "json",
            send: JSON.parse(text("send")) as object,
            ...(text("key") ? { bearer: "apiKey" } : {}),
          },
        }),
    settings: { ...(text("apiBase") ? { apiBase: text("apiBase") } : {}), ...begunWith(given, "set ") },
    secrets: {
      ...begunWith(given, "secret "),
      ...(text("key") ? { apiKey: text("key") } : {}),
      ...(proof && text("secret") ? { [proof.scheme.secret]: text("secret") } : {}),
    },
  }
}
