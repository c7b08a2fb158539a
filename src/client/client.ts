import type {
  KindLook,
  KindShown,
  BotView,
  CarriedAnswer,
  CarriedCall,
  ChannelCheck,
  ChannelShown,
  Comparison,
  ConversationView,
  Explanation,
  LearnedAgreement,
  LearningShown,
  LiveEvent,
  MessageView,
  Page,
  ParkedView,
  Passage,
  PassageSummary,
  PersonView,
  ProfileFault,
  ProfileShown,
} from "./types.ts"

/** The service said no: what happened, what to do, and the field that is wrong where one is. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly remedy: string,
    readonly field?: string,
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

type Query = { [name: string]: string | number | boolean | Date | undefined }

export interface SendRequest {
  to: string
  channel?: string
  text?: string
  replies?: object[]
}

/** The API, typed. The command line, the console and the tests use this one. */
export class Client {
  /** Repeated with every change when a session cookie signs us in. */
  csrf: string | undefined

  /** @param url of the service; empty for the page's own. */
  constructor(
    readonly url: string,
    private readonly token?: string,
  ) {}

  channels = () => this.get<Page<ChannelShown>>("/channels")
  channel = (key: string) => this.get<ChannelShown>(`/channels/${encodeURIComponent(key)}`)
  addChannel = (body: { kind: string; key: string; settings?: object; secrets?: object }) =>
    this.post<ChannelShown>("/channels", body)
  changeChannel = (key: string, body: { settings?: object; secrets?: object }) =>
    this.call<ChannelShown>("PATCH", `/channels/${encodeURIComponent(key)}`, {}, body)
  checkChannel = (key: string) => this.post<ChannelCheck>(`/channels/${encodeURIComponent(key)}/check`)
  learn = (key: string, minutes?: number) =>
    this.post<LearningShown>(`/channels/${encodeURIComponent(key)}/learn`, minutes === undefined ? {} : { minutes })
  learned = (key: string) => this.get<LearningShown>(`/channels/${encodeURIComponent(key)}/learn`)
  stopLearning = (key: string) => this.call<void>("DELETE", `/channels/${encodeURIComponent(key)}/learn`)
  agreeToLearned = (key: string, body: LearnedAgreement) =>
    this.post<{ channel: ChannelShown; profile: string; file?: string; first: { status: number } }>(
      `/channels/${encodeURIComponent(key)}/learn/agree`,
      body,
    )
  profiles = () => this.get<Page<ProfileShown>>("/profiles")
  setProfile = (source: string, keep = true) =>
    this.post<{ name?: string; faults: ProfileFault[] }>("/profiles", { source, keep })

  /** The next calls of a channel of a service that can be reached, for one that cannot. */
  fetchCalls = (key: string, wait: number) =>
    this.get<Page<CarriedCall>>(`/bring/${encodeURIComponent(key)}/calls`, { wait })
  answerCall = (key: string, answer: { id: string } & CarriedAnswer) =>
    this.post<{ taken: boolean }>(`/bring/${encodeURIComponent(key)}/answers`, answer)
  /** @param all whether what was given out and never confirmed was surely not taken, and is handled there, too */
  stopFetching = (key: string, all = false) =>
    this.call<{ handled: number }>("DELETE", `/bring/${encodeURIComponent(key)}`, { all })
  /** Gives a call that came elsewhere to this service, as if it had come here. */
  giveCall = (key: string, call: CarriedCall) => this.post<CarriedAnswer>(`/bring/${encodeURIComponent(key)}/in`, call)
  connectChannel = (key: string) => this.post<Comparison>(`/channels/${encodeURIComponent(key)}/connect`)
  channelRecord = (key: string) => this.get<Comparison>(`/channels/${encodeURIComponent(key)}/record`)
  pauseChannel = (key: string) => this.post<ChannelShown>(`/channels/${encodeURIComponent(key)}/pause`)
  resumeChannel = (key: string) => this.post<ChannelShown>(`/channels/${encodeURIComponent(key)}/resume`)

  messages = (query: Query = {}) => this.get<Page<MessageView>>("/messages", query)
  message = (id: string) => this.get<MessageView>(`/messages/${encodeURIComponent(id)}`)
  send = (body: SendRequest, idempotencyKey?: string) =>
    this.call<{ conversation: string; messages: string[] }>(
      "POST",
      "/messages",
      {},
      body,
      idempotencyKey ? { "idempotency-key": idempotencyKey } : {},
    )

  conversations = (query: Query = {}) => this.get<Page<ConversationView>>("/conversations", query)
  people = (query: Query = {}) => this.get<Page<PersonView>>("/people", query)
  conversation = (id: string) =>
    this.get<ConversationView & { state: { [field: string]: unknown } }>(`/conversations/${encodeURIComponent(id)}`)
  conversationMessages = (id: string, query: Query = {}) =>
    this.get<Page<MessageView>>(`/conversations/${encodeURIComponent(id)}/messages`, query)
  setAnsweredBy = (id: string, answeredBy: "bot" | "person") =>
    this.call<ConversationView>("PATCH", `/conversations/${encodeURIComponent(id)}`, {}, { answeredBy })
  resetConversation = (id: string) => this.post<void>(`/conversations/${encodeURIComponent(id)}/reset`)

  passages = (query: Query = {}) => this.get<Page<PassageSummary>>("/passages", query)
  passage = (id: string) => this.get<Passage>(`/passages/${encodeURIComponent(id)}`)

  parked = (query: Query = {}) => this.get<Page<ParkedView>>("/parked", query)
  retryParked = (id: string) => this.post<ParkedView>(`/parked/${encodeURIComponent(id)}/retry`)
  editParked = (id: string, text: string) =>
    this.post<{ conversation: string; messages: string[] }>(`/parked/${encodeURIComponent(id)}/edit`, { text })
  dropParked = (id: string) => this.post<ParkedView>(`/parked/${encodeURIComponent(id)}/drop`)

  looks = (replies: object[]) => this.post<Page<KindLook>>("/looks", { replies })
  kinds = () => this.get<Page<KindShown>>("/kinds")

  bot = () => this.get<BotView>("/bot")
  checkBot = (folder?: string) => this.post<BotView & { routes?: string[] }>("/bot/check", folder ? { folder } : {})
  explain = (body: { text: string; channel?: string; choice?: string; state?: object; place?: string }) =>
    this.post<Explanation>("/bot/explain", body)

  session = () => this.get<{ name: string; role: string; csrf?: string }>("/session")
  signIn = (token: string) => this.post<{ name: string; role: string; csrf: string }>("/session", { token })
  signOut = () => this.call<void>("DELETE", "/session")
  makeToken = (name: string, role: string, channel?: string) =>
    this.post<{ token: string }>("/tokens", { name, role, ...(channel === undefined ? {} : { channel }) })

  /** What happens, as it happens, until the signal ends it. Goes on after a break where it was broken off. */
  async *live(signal: AbortSignal): AsyncGenerator<LiveEvent> {
    let cursor: string | undefined
    while (!signal.aborted) {
      const answer = await this.fetch(`${this.url}/api/v1/live`, {
        headers: { ...this.identify(), ...(cursor ? { "last-event-id": cursor } : {}) },
        signal,
      })
      if (!answer.ok || !answer.body) throw await errorOf(answer)
      try {
        for await (const event of readEvents(answer.body, signal)) {
          cursor = event.id ?? cursor
          if (event.event !== "happened") continue
          for (const item of JSON.parse(event.data) as LiveEvent[]) yield item
        }
      } catch (error) {
        if (signal.aborted) return
        if (!(error instanceof TypeError)) throw error
      }
      await new Promise((resolve) => setTimeout(resolve, 500))
    }
  }

  private get<T>(path: string, query: Query = {}): Promise<T> {
    return this.call<T>("GET", path, query)
  }

  private post<T>(path: string, body?: object): Promise<T> {
    return this.call<T>("POST", path, {}, body)
  }

  private async call<T>(
    method: string,
    path: string,
    query: Query = {},
    body?: object,
    headers: { [name: string]: string } = {},
  ): Promise<T> {
    const search = new URLSearchParams()
    for (const [name, value] of Object.entries(query)) {
      if (value !== undefined) search.set(name, value instanceof Date ? value.toISOString() : String(value))
    }
    const tail = search.size > 0 ? `?${search.toString()}` : ""
    const answer = await this.fetch(`${this.url}/api/v1${path}${tail}`, {
      method,
      headers: { ...this.identify(), ...(body ? { "content-type": "application/json" } : {}), ...headers },
      ...(body ? { body: JSON.stringify(body) } : {}),
    })
    if (!answer.ok) throw await errorOf(answer)
    return (answer.status === 204 ? undefined : await answer.json()) as T
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

async function errorOf(answer: Response): Promise<ApiError> {
  const problem = (await answer.json().catch(() => ({}))) as { detail?: string; remedy?: string; field?: string }
  return new ApiError(
    answer.status,
    problem.detail ?? `The service answered ${answer.status}.`,
    problem.remedy ?? "",
    problem.field,
  )
}

/** Server-sent events, as the HTML standard writes them. */
async function* readEvents(
  body: ReadableStream<Uint8Array>,
  signal: AbortSignal,
): AsyncGenerator<{ id?: string; event: string; data: string }> {
  const decoder = new TextDecoder()
  let text = ""
  const reader = body.getReader()
  // fetch keeps only a weak hold of what its signal would break off: a stream that lasts may not hear of it.
  signal.addEventListener("abort", () => void reader.cancel().catch(() => undefined), { once: true })
  for (;;) {
    const { done, value } = await reader.read()
    if (done) return
    text += decoder.decode(value, { stream: true })
    for (let end = text.indexOf("\n\n"); end !== -1; end = text.indexOf("\n\n")) {
      const fields: { [name: string]: string } = {}
      for (const line of text.slice(0, end).split("\n")) {
        const at = line.indexOf(":")
        if (at > 0) fields[line.slice(0, at)] = line.slice(at + 1).trim()
      }
      text = text.slice(end + 2)
      if (fields.data !== undefined)
        yield { ...(fields.id ? { id: fields.id } : {}), event: fields.event ?? "message", data: fields.data }
    }
  }
}
