import type { AnswerOf, Operation } from "./api.ts"
import type { FollowOptions, LiveState, Told } from "./follow.ts"
import { follow } from "./follow.ts"
import type {
  ElsewhereAnswer,
  CarriedAnswer,
  CarriedCall,
  LearnedAgreement,
  LiveEvent,
  RequestExample,
  RequestSort,
  SayRequest,
  TryRequest,
  ExplanationAsk,
  NoticeGiven,
} from "./types.ts"

/** The service said no: what happened, what to do, and the field that is wrong where one is. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly remedy: string,
    readonly field?: string,
    /** The whole answer, as RFC 9457 has it. */
    readonly problem?: { [member: string]: unknown },
  ) {
    super(detail)
  }
}

/** No service answered at the address. */
export class NoService extends Error {
  constructor(readonly url: string) {
    super(`No Wobbet service answers at ${url}.`)
  }
}

/** Somebody else answers at the address. */
export class NotWobbet extends Error {
  constructor(
    readonly url: string,
    says: string,
  ) {
    super(`What answers at ${url} is not Wobbet: ${says}.`)
  }
}

type Query = { [name: string]: string | number | boolean | Date | undefined }

export interface SendRequest {
  to: string
  channel?: string
  text?: string
  replies?: object[]
  /** Said along with the text, by the names of the channel's extras. */
  extra?: { [name: string]: string }
}

/** The API, typed. The command line, the console and the tests use this one. */
export class Client {
  /** Repeated with every change when a session cookie signs us in. */
  csrf: string | undefined
  /** Told when the service knows us no longer: the session has ended, or the token is gone. */
  refused: ((error: Error) => void) | undefined

  /** @param url of the service; empty for the page's own. */
  constructor(
    readonly url: string,
    private readonly token?: string,
    /** What is done to each answer before anybody sees it. */
    private readonly read: <T>(answer: T) => T = (answer) => answer,
  ) {}

  channels = () => this.ask("GET /channels")
  channel = (key: string) => this.ask("GET /channels/{key}", { at: key })
  addChannel = (body: { kind: string; key: string; settings?: object; secrets?: object }) =>
    this.ask("POST /channels", { body })
  changeChannel = (
    key: string,
    body: { settings?: object; secrets?: object; keepFormer?: boolean; dropFormer?: boolean },
    ifMatch?: string,
  ) => this.ask("PATCH /channels/{key}", { at: key, body, ...(ifMatch ? { headers: { "if-match": ifMatch } } : {}) })
  /** @param waiting whether a channel on which something waits is removed all the same, and what waits with it */
  removeChannel = (key: string, waiting: "refuse" | "drop" = "refuse") =>
    this.ask("DELETE /channels/{key}", { at: key, query: { waiting } })
  channelWaiting = (key: string) => this.ask("GET /channels/{key}/waiting", { at: key })
  checkChannel = (key: string) => this.ask("POST /channels/{key}/check", { at: key })
  connectChannel = (key: string) => this.ask("POST /channels/{key}/connect", { at: key })
  channelRecord = (key: string) => this.ask("GET /channels/{key}/record", { at: key })
  /** The whole address, with the word that stands in it: once. */
  wholeAddress = (key: string) => this.ask("POST /channels/{key}/address", { at: key })
  operations = (key: string) => this.ask("GET /channels/{key}/operations", { at: key })
  /** Tries one of the provider's calls; without `really`, one that may change something is only shown. */
  tryCall = (key: string, body: Omit<TryRequest, "fields" | "really"> & Partial<TryRequest>) =>
    this.ask("POST /channels/{key}/call", { at: key, body })
  say = (key: string, body: Omit<SayRequest, "really"> & { really?: boolean }) =>
    this.ask("POST /channels/{key}/say", { at: key, body })
  pauseChannel = (key: string) => this.ask("POST /channels/{key}/pause", { at: key })
  resumeChannel = (key: string) => this.ask("POST /channels/{key}/resume", { at: key })

  learn = (key: string, wait: { minutes?: number; wanted?: number } = {}) =>
    this.ask("POST /channels/{key}/learn", { at: key, body: wait })
  giveSamples = (key: string, samples: string[]) =>
    this.ask("POST /channels/{key}/learn/samples", { at: key, body: { samples } })
  learned = (key: string) => this.ask("GET /channels/{key}/learn", { at: key })
  stopLearning = (key: string) => this.ask("DELETE /channels/{key}/learn", { at: key })
  agreeToLearned = (key: string, body: LearnedAgreement) =>
    this.ask("POST /channels/{key}/learn/agree", { at: key, body })
  profiles = () => this.ask("GET /profiles")
  fromRequests = (body: { examples: RequestExample[]; name: string; into?: string; keep?: boolean }) =>
    this.ask("POST /profiles/from-request", { body })
  fromOpenApi = (body: {
    document: string
    name: string
    send?: string
    webhook?: string
    more?: { operation: string; as: RequestSort }[]
    keep?: boolean
  }) => this.ask("POST /profiles/from-openapi", { body })
  testProfile = (source: string, samples: { name: string; call: string; expect?: string }[]) =>
    this.ask("POST /profiles/test", { body: { source, samples } })
  setProfile = (source: string, keep = true) => this.ask("POST /profiles", { body: { source, keep } })

  /** The next calls of a channel of a service that can be reached, for one that cannot. */
  fetchCalls = (key: string, wait: number) => this.ask("POST /bring/{key}/calls", { at: key, body: { wait } })
  answerCall = (key: string, answer: { id: string } & CarriedAnswer) =>
    this.ask("POST /bring/{key}/answers", { at: key, body: answer })
  /** @param all whether what was given out and never confirmed was surely not taken, and is handled there, too */
  stopFetching = (key: string, all = false) => this.ask("DELETE /bring/{key}", { at: key, query: { all } })
  /** Gives a call that came elsewhere to this service, as if it had come here. */
  giveCall = (key: string, call: CarriedCall) => this.ask("POST /bring/{key}/in", { at: key, body: call })

  messages = (query: Query = {}) => this.ask("GET /messages", { query })
  message = (id: string) => this.ask("GET /messages/{id}", { at: id })
  send = (body: SendRequest, idempotencyKey?: string) =>
    this.ask("POST /messages", {
      body,
      ...(idempotencyKey ? { headers: { "idempotency-key": idempotencyKey } } : {}),
    })

  conversations = (query: Query = {}) => this.ask("GET /conversations", { query })
  people = (query: Query = {}) => this.ask("GET /people", { query })
  conversation = (id: string) => this.ask("GET /conversations/{id}", { at: id })
  conversationMessages = (id: string, query: Query = {}) =>
    this.ask("GET /conversations/{id}/messages", { at: id, query })
  setAnsweredBy = (id: string, answeredBy: "bot" | "person") =>
    this.ask("PATCH /conversations/{id}", { at: id, body: { answeredBy } })
  /** Ends a running interview, or steps it back to the question before. */
  decideInterview = (id: string, interview: string, what: "end" | "back") =>
    this.ask("POST /conversations/{id}/interviews", { at: id, body: { interview, do: what } })
  person = (contact: string) => this.ask("GET /people/{contact}", { at: contact })
  joinPeople = (contact: string, other: string) =>
    this.ask("POST /people/{contact}/join", { at: contact, body: { other } })
  splitPerson = (contact: string, channel: string, address: string) =>
    this.ask("POST /people/{contact}/split", { at: contact, body: { channel, address } })
  blockPerson = (contact: string, blocked: boolean) =>
    this.ask("PUT /people/{contact}/block", { at: contact, body: { blocked } })
  /** Makes a code; whoever says it on another channel within ten minutes is this person there, too. */
  makeJoinCode = (contact: string) => this.ask("POST /people/{contact}/code", { at: contact })
  /** Begins to forget a person. */
  forgetPerson = (contact: string) => this.ask("POST /people/{contact}/forget", { at: contact })
  forgetting = (id: string) => this.ask("GET /forgettings/{id}", { at: id })
  sendNotice = (body: NoticeGiven, key?: string) =>
    this.ask("POST /notices", { body, ...(key === undefined ? {} : { headers: { "idempotency-key": key } }) })
  tryNotice = (body: NoticeGiven) => this.ask("POST /notices/try", { body })
  notices = (query: Query = {}) => this.ask("GET /notices", { query })
  notice = (id: string) => this.ask("GET /notices/{id}", { at: id })
  recipients = (id: string, query: Query = {}) => this.ask("GET /notices/{id}/recipients", { at: id, query })
  queues = () => this.ask("GET /queues")
  queued = (name: string, query: Query = {}) => this.ask("GET /queues/{name}", { at: name, query })
  /** Takes turns off a queue; waits so many seconds where there is none. */
  leaseTurns = (
    name: string,
    body: { most?: number; wait?: number; seconds?: number; bot?: string; lane?: string } = {},
  ) => this.ask("POST /queues/{name}/lease", { at: name, body })
  finishTurn = (name: string, body: { lease: string } & ElsewhereAnswer) =>
    this.ask("POST /queues/{name}/finish", { at: name, body })
  /** @param after seconds before anybody gets it again */
  releaseTurn = (name: string, lease: string, after = 0) =>
    this.ask("POST /queues/{name}/release", { at: name, body: { lease, after } })
  extendLease = (name: string, lease: string, seconds: number) =>
    this.ask("POST /queues/{name}/extend", { at: name, body: { lease, seconds } })
  models = () => this.ask("GET /models")
  endpoints = () => this.ask("GET /endpoints")
  secrets = (query: { bot?: string } = {}) => this.ask("GET /secrets", { query })
  setSecret = (name: string, body: { value: string; bot?: string; lane?: string }) =>
    this.ask("PUT /secrets/{name}", { at: name, body })
  dropSecret = (name: string, query: { bot?: string; lane?: string } = {}) =>
    this.ask("DELETE /secrets/{name}", { at: name, query })
  takeConversation = (id: string) => this.ask("PATCH /conversations/{id}", { at: id, body: { take: true } })
  /** @param ifMatch the ETag of the state it replaces */
  changeState = (id: string, state: { [field: string]: unknown }, ifMatch?: string) =>
    this.ask("PUT /conversations/{id}/state", {
      at: id,
      body: { state },
      ...(ifMatch ? { headers: { "if-match": ifMatch } } : {}),
    })
  resetConversation = (id: string) => this.ask("POST /conversations/{id}/reset", { at: id })

  passages = (query: Query = {}) => this.ask("GET /passages", { query })
  passage = (id: string) => this.ask("GET /passages/{id}", { at: id })

  journal = (query: Query = {}) => this.ask("GET /journal", { query })
  readJournal = () => this.ask("POST /journal/read")
  parked = (query: Query = {}) => this.ask("GET /parked", { query })
  retryParked = (id: string) => this.ask("POST /parked/{id}/retry", { at: id })
  editParked = (id: string, text: string) => this.ask("POST /parked/{id}/edit", { at: id, body: { text } })
  dropParked = (id: string) => this.ask("POST /parked/{id}/drop", { at: id })

  looks = (replies: object[]) => this.ask("POST /looks", { body: { replies } })
  kinds = () => this.ask("GET /kinds")
  /** @param profile of the gateway, where the kind speaks by one */
  kind = (kind: string, profile?: string) => this.ask("GET /kinds/{kind}", { at: kind, query: { profile } })

  bot = () => this.ask("GET /bot")
  checkBot = (folder?: string) => this.ask("POST /bot/check", { body: folder ? { folder } : {} })
  routes = (days: number) => this.ask("GET /routes", { query: { days } })
  unroutedGroups = (days: number) => this.ask("GET /routes/unrouted", { query: { days } })
  explain = (body: ExplanationAsk) => this.ask("POST /bot/explain", { body })
  markPerson = (contact: string, body: { addTags?: string[]; removeTags?: string[]; fields?: object }) =>
    this.ask("PATCH /people/{contact}", { at: contact, body })
  markConversation = (id: string, body: { addTags?: string[]; removeTags?: string[] }) =>
    this.ask("PATCH /conversations/{id}", { at: id, body })

  session = () => this.ask("GET /session")
  signIn = (token: string) => this.ask("POST /session", { body: { token } })
  signOut = () => this.ask("DELETE /session")
  signInOnce = (once: string) => this.ask("POST /session", { body: { once } })
  sessions = () => this.ask("GET /sessions")
  endSession = (id: string) => this.ask("DELETE /sessions/{id}", { at: id })
  tokens = () => this.ask("GET /tokens")
  /** A token that is good for the turns of one queue alone. */
  makeWorkerToken = (name: string, queue: string, days?: number) =>
    this.ask("POST /tokens", { body: { name, role: "worker", queue, ...(days === undefined ? {} : { days }) } })
  makeToken = (name: string, role: string, channel?: string, days?: number) =>
    this.ask("POST /tokens", {
      body: { name, role, ...(channel === undefined ? {} : { channel }), ...(days === undefined ? {} : { days }) },
    })
  revokeToken = (idOrName: string) => this.ask("DELETE /tokens/{id}", { at: idOrName })
  audit = (query: Query = {}) => this.ask("GET /audit", { query })

  /** What happens, as it happens, until the signal ends it; after a break it resumes where it was. */
  async *live(signal: AbortSignal, state?: (state: LiveState) => void): AsyncGenerator<LiveEvent> {
    for await (const told of this.follow({ signal, ...(state ? { state } : {}) }))
      if (told.event === "happened") yield* told.items
  }

  /** The live stream itself, over every break. */
  follow(options: Omit<FollowOptions, "open" | "failure">): AsyncGenerator<Told> {
    return follow({
      ...options,
      failure: errorOf,
      open: (cursor, signal) =>
        this.fetch(`${this.url}/api/v1/live`, {
          headers: { ...this.identify(), ...(cursor ? { "last-event-id": cursor } : {}) },
          signal,
        }),
    })
  }

  /** @param given.at what stands in the path in the place of its parameter */
  private async ask<Name extends Operation>(
    name: Name,
    given: { at?: string; query?: Query; body?: object; headers?: { [name: string]: string } } = {},
  ): Promise<AnswerOf<Name>> {
    const { at = "", query = {}, body, headers = {} } = given
    const [method, path] = name.split(" ") as [string, string]
    const search = new URLSearchParams()
    for (const [field, value] of Object.entries(query)) {
      if (value !== undefined) search.set(field, value instanceof Date ? value.toISOString() : String(value))
    }
    const tail = search.size > 0 ? `?${search.toString()}` : ""
    const answer = await this.fetch(
      `${this.url}/api/v1${path.replace(/\{\w+\}/, () => encodeURIComponent(at))}${tail}`,
      {
        method,
        headers: { ...this.identify(), ...(body ? { "content-type": "application/json" } : {}), ...headers },
        ...(body ? { body: JSON.stringify(body) } : {}),
      },
    )
    if (!answer.ok) {
      const error = await errorOf(answer)
      if (answer.status === 401) this.refused?.(error)
      throw error
    }
    if (answer.status === 204) return undefined as AnswerOf<Name>
    return this.read((await readJson(answer)) as AnswerOf<Name>)
  }

  private identify(): { [name: string]: string } {
    return {
      ...(this.token ? { authorization: `Bearer ${this.token}` } : {}),
      ...(this.csrf ? { "x-csrf": this.csrf } : {}),
    }
  }

  private async fetch(url: string, options: RequestInit): Promise<Response> {
    try {
      return await fetch(url, options)
    } catch (error) {
      if ((error as Error).name === "AbortError") throw error
      throw new NoService(this.url)
    }
  }
}

/** An answer of the service; everything else at the address is somebody else's. */
async function readJson(answer: Response): Promise<unknown> {
  const text = await answer.text()
  try {
    return JSON.parse(text)
  } catch {
    throw new NotWobbet(new URL(answer.url).origin, `it answers ${answer.status} with ${sortOf(answer)}`)
  }
}

function sortOf(answer: Response): string {
  return answer.headers.get("content-type")?.split(";")[0] ?? "no content type"
}

async function errorOf(answer: Response): Promise<Error> {
  const isProblem = sortOf(answer) === "application/problem+json"
  // A proxy that cannot reach the service speaks for itself.
  if (!isProblem && answer.status < 500)
    return new NotWobbet(new URL(answer.url).origin, `it answers ${answer.status} with ${sortOf(answer)}`)
  const problem = (isProblem ? await answer.json().catch(() => ({})) : {}) as { [member: string]: unknown }
  const text = (name: string) => (typeof problem[name] === "string" ? problem[name] : undefined)
  return new ApiError(
    answer.status,
    text("detail") ?? `The service, or a proxy before it, answered ${answer.status}.`,
    text("remedy") ?? "Try again in a moment.",
    text("field"),
    isProblem ? problem : undefined,
  )
}
