import { nearest } from "./nearest.ts"
import { lacksReceiver, noReceiver } from "./receiver.ts"
import type { Calling, Inbound, Profile, ProfileFault, VerifyScheme } from "./profile.ts"

/** What is wrong with a profile, and the path to where. */
export type Finding = Omit<ProfileFault, "line"> & { path: (string | number)[] }

type Path = Finding["path"]
type Report = (path: Path, says: string, remedy: string) => void

/**
 * What is well written but cannot be meant.
 *
 * @param kept whether the profile is on record already: one that names no receiver is read, and its channels are held
 */
export function inconsistencies(profile: Profile, kept = false): Finding[] {
  const found: Finding[] = []
  const report: Report = (path, says, remedy) => found.push({ path, field: path.join("."), says, remedy })
  proofs(profile, report)
  whatNeedsAnother(profile, report)
  if (!kept && lacksReceiver(profile)) report(["outbound"], noReceiver.says, noReceiver.remedy)
  if (profile.inbound) pointers(profile.inbound, report)
  placeholders(profile, report)
  names(profile, report)
  return found
}

/** Calls must prove something, with secrets there are. */
function proofs({ inbound, secrets, queue }: Profile, report: Report): void {
  const known = Object.keys(secrets)
  const schemes = (list: VerifyScheme[] | undefined, path: Path) =>
    list?.forEach(({ secret }, at) => {
      if (!known.includes(secret)) report([...path, at, "secret"], ...noSecret(secret, known))
    })
  schemes(inbound?.verify, ["inbound", "verify"])
  schemes(inbound?.handshake?.verify, ["inbound", "handshake", "verify"])
  if (inbound?.verify.length === 0 && !queue)
    report(
      ["inbound", "verify"],
      "nothing says how the gateway's calls are proven",
      "Add one: verify: [{ scheme: word, secret: sharedWord, query: word }]. Calls that prove nothing are never taken.",
    )
}

function noSecret(secret: string, known: string[]): [says: string, remedy: string] {
  const near = nearest(secret, known)
  return [
    `there is no secret "${secret}" under secrets`,
    near ? `Was "${near}" meant?` : `Add it: secrets: { ${secret}: { says: … } }.`,
  ]
}

/** Parts that mean nothing without another. */
function whatNeedsAnother(profile: Profile, report: Report): void {
  const { inbound, outbound, inline, queue, history, fetch, state, find } = profile
  const readsCalls = "What comes is read as inbound says: body, verify and message."
  for (const [name, part] of Object.entries({ queue, inline, history, fetch }))
    if (part && !inbound) report([name], `${name} needs inbound, and there is none`, `Add inbound. ${readsCalls}`)
  if (state?.event && !inbound)
    report(["state", "event"], "a call tells of the state, and there is no inbound", `Add inbound. ${readsCalls}`)
  if (find && !outbound) report(["find"], "find asks about what was sent, and there is no outbound", "Add outbound.")
  if (find && outbound && JSON.stringify(find).includes("{mark}") && !JSON.stringify(outbound).includes("{mark}"))
    report(
      ["find", "address"],
      "a message is asked for by our mark, and what is sent does not carry it",
      'Add it to outbound.send where the gateway takes a reference of ours, such as reference: "{mark}".',
    )
  if (inline?.late === "api" && !outbound)
    report(
      ["inline", "late"],
      "late replies are to go by the API, but there is no outbound",
      "Add outbound, or write late: park.",
    )
  if (state?.every && !profile.check)
    report(
      ["state", "every"],
      "the state is to be asked for, but there is no check that asks",
      "Add check: the call that tells the state, and answer: { state: … }.",
    )
  const media = inbound?.message.media
  if (media && "each" in media && media.id !== undefined && !fetch)
    report(
      ["inbound", "message", "media", "id"],
      "attachments have ids, but nothing says how one is fetched",
      'Add fetch: { address: "{apiBase}/messages/{message}/attachments/{attachment}" }.',
    )
}

/** In JSON and XML, places are JSON Pointers. */
function pointers(inbound: Inbound, report: Report): void {
  if (inbound.body === "form") return
  for (const [path, where] of places(inbound)) {
    if (where.startsWith("/") || where === "" || where.startsWith("{") || !/[/.[\]]/.test(where)) continue
    const pointer = where.includes("/")
      ? where.replace(/^\/+/, "")
      : where.replace(/[.[\]]+/g, "/").replace(/^\/|\/$/g, "")
    report(
      path,
      `"${where}" is not a JSON Pointer`,
      where.includes("/") ? `Begin it with a slash: /${pointer}.` : `Write its steps with slashes: /${pointer}.`,
    )
  }
}

function* places(inbound: Inbound): Generator<[Path, string]> {
  const inside = function* (value: unknown, path: Path): Generator<[Path, string]> {
    if (typeof value === "string") yield [path, value]
    else if (Array.isArray(value)) for (const [at, one] of value.entries()) yield* inside(one, [...path, at])
  }
  const { message, status } = inbound
  for (const name of ["each", "id", "from", "place", "placeName", "text", "time", "name", "replyTo", "quote"] as const)
    yield* inside(message[name], ["inbound", "message", name])
  for (const group of ["fields", "reaction", "edited", "deleted"] as const)
    for (const [field, where] of Object.entries(message[group] ?? {}))
      yield* inside(typeof where === "string" ? where : undefined, ["inbound", "message", group, field])
  for (const name of ["each", "shared", "id", "mark", "status", "why"] as const)
    yield* inside(status?.[name], ["inbound", "status", name])
}

/** Placeholders that every call has. */
const always = ["apiBase", "number", "sender", "to", "mark", "inlet", "now", "country"]
/** Those that only some have, by where they stand. */
const sometimes: { [path: string]: string[] } = {
  outbound: ["text", "media", "replyTo"],
  "outbound.extra": ["value", "text"],
  "outbound.amend": ["id", "text"],
  "outbound.remove": ["id"],
  "outbound.react": ["id", "emoji"],
  "queue.remove": ["handle"],
  "register.set": ["events"],
  fetch: ["message", "attachment"],
  find: ["id"],
  inline: ["text"],
}

function placeholders(profile: Profile, report: Report): void {
  const settings = Object.keys(profile.settings)
  const secrets = Object.keys(profile.secrets)
  for (const [path, text] of templates(profile)) {
    if (/\{[^{}]*$/.test(text))
      report(path, `"${text}" opens a brace and does not close it`, 'Write placeholders as "{name}".')
    const own = sometimes[path.slice(0, 2).join(".")] ?? sometimes[String(path[0])] ?? []
    const known = [...settings, ...secrets, ...always, ...own]
    for (const [, written] of text.matchAll(/\{([\w:/@.-]+)\}/g)) {
      const name = written!.replace(/:number$/, "")
      if (written !== name && text !== `{${written}}`)
        report(path, `"{${written}}" stands in a text, which is no number`, `Write it alone, or write "{${name}}".`)
      if (name.includes(":") || known.includes(name)) continue
      const near = nearest(name, known)
      report(
        path,
        `"{${name}}" stands for nothing`,
        near
          ? `Was "{${near}}" meant?`
          : `Add it under settings, or use one of: ${known.map((one) => `{${one}}`).join(", ")}.`,
      )
    }
  }
}

/** Every text of a profile in which placeholders may stand. */
function* templates(profile: Profile): Generator<[Path, string]> {
  for (const [path, { address, headers, send }] of callings(profile)) {
    yield [[...path, "address"], address]
    yield* deep(headers, [...path, "headers"])
    yield* deep(send, [...path, "send"])
  }
  const { outbound, inline } = profile
  for (const part of ["media", "reply", "extra"] as const) yield* deep(outbound?.[part], ["outbound", part])
  if (inline) yield* deep(inline.send ?? inline.text, ["inline", inline.send ? "send" : "text"])
}

function* deep(value: unknown, path: Path): Generator<[Path, string]> {
  if (typeof value === "string") yield [path, value]
  else if (typeof value === "object" && value !== null)
    for (const [name, one] of Object.entries(value))
      if (path.at(-2) !== "extra" || name !== "says")
        yield* deep(one, [...path, Array.isArray(value) ? Number(name) : name])
}

/** The profile's calls, and where each stands. */
function* callings(profile: Profile): Generator<[Path, Calling]> {
  const { outbound, queue, register } = profile
  if (outbound) yield [["outbound"], outbound]
  for (const name of ["amend", "remove", "react", "typing"] as const)
    if (outbound?.[name]) yield [["outbound", name], outbound[name]]
  if (queue) {
    yield [["queue", "ask"], queue.ask]
    yield [["queue", "remove"], queue.remove]
  }
  for (const [at, one] of (register?.set ?? []).entries()) yield [["register", "set", at], one]
  for (const name of ["read", "remove"] as const) if (register?.[name]) yield [["register", name], register[name]]
  for (const name of ["check", "fetch", "history", "find"] as const) if (profile[name]) yield [[name], profile[name]]
}

/** Settings and secrets that an authorisation names. */
function names(profile: Profile, report: Report): void {
  const secrets = Object.keys(profile.secrets)
  const known = [...secrets, ...Object.keys(profile.settings), ...always]
  for (const [path, { authorization }] of callings(profile)) {
    if (!authorization) continue
    const at = [...path, "authorization"]
    if ("bearer" in authorization) {
      if (!secrets.includes(authorization.bearer)) report([...at, "bearer"], ...noSecret(authorization.bearer, secrets))
      continue
    }
    const [user, password] = authorization.basic
    if (password !== "" && !secrets.includes(password)) report([...at, "basic"], ...noSecret(password, secrets))
    if (!known.includes(user))
      report([...at, "basic"], `there is no setting or secret "${user}"`, `Add it: settings: { ${user}: { says: … } }.`)
  }
}
