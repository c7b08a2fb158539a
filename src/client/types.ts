/** What the API answers, as the client, the command line and the console read it. Times are ISO 8601. */

export interface Stop {
  stop: "received" | "verified" | "parsed" | "routed" | "handled" | "sent" | "delivered"
  /** `ahead` was not reached, `skipped` was not needed, `untold` cannot be known on this kind of channel. */
  state: "done" | "under way" | "stopped" | "ahead" | "skipped" | "untold"
  at?: string
  why?: string
  /** What the message's or call's state is called, at the stop that tells it. */
  word?: string
}

/** A send of which it was open whether the provider took it. */
export interface Doubt {
  /** When the call was begun. */
  at: string
  /** In words. */
  known: string
  decided: string
  /** Whether a person is still to decide. */
  open: boolean
}

export interface MessageView {
  id: string
  channel: string
  kind: string
  conversation: string
  direction: "in" | "out"
  event: string
  position: number
  origin: string
  author: string | null
  intake: string | null
  turn: string | null
  providerId: string | null
  body: { [field: string]: unknown }
  text: string
  sentAt: string | null
  receivedAt: string
  status: string
  reason: string | null
  doubtful: boolean
  /** Set where it was open whether the provider took it. */
  doubt?: Doubt
  route: string | null
  parked: string | null
  replies: string[] | null
  handledAt: string | null
  settledAt: string | null
  toldAt: string | null
  /** What became of the media that came with it: kept under a hash, waiting to be fetched, or why not. */
  kept:
    | { n: number; state: "waiting" | "kept" | "failed"; hash?: string; mime?: string; size?: number; why?: string }[]
    | null
  title: string | null
  /** The provider's address of the place, which names somebody who has no title. */
  address: string | null
  /** Since when its handler has been running. */
  since: string | null
  /** When it is looked at again, where it waits for a time. */
  until: string | null
  stops?: Stop[]
}

export interface AttemptView {
  attempt: number
  call: number
  name: string
  startedAt: string
  endedAt: string | null
  outcome: string | null
  why: string | null
  status: number | null
  answer: string | null
  providerId: string | null
}

export interface TurnView {
  turn: string
  lead: string
  outcome: string
  reason: string | null
  route: string | null
  handler: string | null
  release: string | null
  slots: { [name: string]: unknown } | null
  /** The option a text was taken for. */
  takenAs: { id: string; label?: string } | null
  interview: InterviewNote | null
  /** Side effects of the turn, where it had any. */
  onces: OnceView[]
  /** Where what was said is shown besides, where it is. */
  relays?: RelayView[]
  stateBefore: { [field: string]: unknown } | null
  stateAfter: { [field: string]: unknown } | null
  log: unknown[] | null
  error: { name: string; message: string; stack?: string } | null
  degraded: string[] | null
  /** Whom the handler asked elsewhere, where it did. */
  elsewhere: ElsewhereNote | null
  run: number
  startedAt: string
  endedAt: string
}

/** Where something that was said is shown besides. */
export interface RelayView {
  what: string
  toChannel: string
  /** The provider's id of the place; the conversation's, where it goes back to what it answers. */
  toPlace: string
  state: string
  why: string | null
  /** The message it became there. */
  copy: string | null
}

/** Whom a turn asked elsewhere, and what came of it. */
export interface ElsewhereNote {
  calls: ElsewhereCallView[]
  /** Set where the turn waited. */
  waited?: { kind: string; place: string; since: string; until: string }
  /** Why the fallback was said. */
  instead?: string
}

/** A call to an endpoint or a model server, a lease, or an answer by the API. */
export interface ElsewhereCallView {
  to: string
  at: string
  /** Milliseconds. */
  took?: number
  status?: number
  came: string
  /** The beginning of what it answered. */
  answer?: string
  by?: string
  /** Of a model: tokens of the request and of the answer, and what they cost by the model's prices. */
  tokens?: { asked: number; answered: number }
  cost?: number
  /** The passages of the bot's facts that went along. */
  facts?: string[]
  /** The tools it wanted used, what with, the beginning of what they gave, and what they printed. */
  tools?: { name: string; with: string; gave: string; log?: string[] }[]
}

/** Something that happened in an application; or a CloudEvent 1.0 in structured JSON mode. */
export type NoticeGiven =
  | { type: string; data?: { [field: string]: unknown }; bot?: string; lane?: string }
  | { specversion: "1.0"; id: string; source: string; type: string; data?: { [field: string]: unknown } }

/** @property known whether its key was used before, for the same */
export interface NoticeKept {
  id: string
  bot: string
  lane: string
  known: boolean
}

/** What an application told, and how many were told of it. */
export interface NoticeView {
  id: string
  bot: string
  lane: string
  type: string
  source: string | null
  data: { [field: string]: unknown }
  by: string
  at: string
  /** Whether it is known whom it is told. */
  known: boolean
  waiting: number
  said: number
  refused: number
  failed: number
  unmatched: number
}

/** Somebody a notice is told, or who is meant and not known. */
export interface RecipientView {
  id: string
  contact: string | null
  /** What the application called whoever is not known. */
  named: string | null
  name: string | null
  conversation: string | null
  channel: string | null
  state: string
  why: string | null
  due: string | null
  message: string | null
  /** People who may be meant, and what would make them match. */
  like?: { contact: string; name: string | null; would: string }[]
}

/** A notice as it would be said. */
export interface NoticeTried {
  told: {
    contact: string | null
    name: string | null
    channel: string
    /** Null for a place nothing was said in yet. */
    conversation: string | null
    part: { part: string; [field: string]: unknown }
    until?: string
  }[]
  not: { named: string; why: string; is: "unmatched" | "refused" }[]
  count: number
}

/** What is answered to a turn from elsewhere: the same as a code handler returns. */
export interface ElsewhereAnswer {
  replies?: ReplyGiven[] | ReplyGiven
  state?: { [field: string]: unknown } | null
  contact?: { [field: string]: unknown }
  leave?: "person" | { route: string }
}

/** A part of a reply, or a plain text. */
export type ReplyGiven = string | { part: string; [field: string]: unknown }

/** A turn that a worker holds. */
export interface LeaseView {
  lease: string
  queue: string
  /** How often it was leased, this time included. */
  leases: number
  since: string
  /** When nobody waits for its answer any more. */
  until: string
  leasedUntil: string
  turn: AskedTurnView
}

/** A turn as whoever answers it from elsewhere is told of it. */
export interface AskedTurnView {
  /** The same over all tries. */
  id: string
  bot: string
  lane: string
  route: string | null
  release: string
  message: { text?: string; [field: string]: unknown }
  messages: { [field: string]: unknown }[]
  slots: { [name: string]: string | number }
  state: { [field: string]: unknown }
  contact: {
    id?: string
    name?: string
    handle?: string
    language?: string
    address?: string
    fields: { [field: string]: unknown }
  }
  conversation: { id: string; place: { address: string; kind: string; title?: string; topic?: string } }
  channel: { key: string; kind: string }
  now: string
  history?: { direction: string; text: string; event: string; name?: string; at: string }[]
  /** Set where the answer goes to nobody. */
  trial?: boolean
}

export interface QueueView {
  queue: string
  /** Counted up to 10,000. */
  waiting: number
  /** Whether more wait than were counted. */
  more: boolean
  leased: number
  oldest: string | null
}

/** A turn that waits at a queue. */
export interface QueuedView {
  conversation: string
  message: string
  queue: string
  bot: string
  lane: string
  channel: string
  text: string
  title: string | null
  since: string
  until: string
  leases: number
  leasedBy: string | null
  leasedAt: string | null
  leasedUntil: string | null
}

/** An endpoint that bots ask, as it was found last. */
export interface EndpointView {
  address: string
  /** closed: it is asked; open: it is left alone for a while. */
  state: string
  failures: number
  why: string | null
  at: string | null
  until: string | null
  waiting: number
  oldest: string | null
}

/** A model that a bot asks, and what is used of it today. */
export interface ModelView {
  bot: string
  name: string
  /** Its server. */
  address: string
  /** What the server calls it. */
  model: string
  /** The routes that ask it, each with its lane. */
  askedBy: string[]
  /** Today, in the bot's zone. */
  day: string
  /** For a million tokens. */
  prices?: { asked: number; answered: number }
  limits?: { person?: Partial<ModelUse>; all?: Partial<ModelUse> }
  /** Nothing for a model that has neither prices nor limits. */
  used: { all: ModelUse; most: ModelUse } | null
}

/** What is used of a model. */
export interface ModelUse {
  calls: number
  tokens: number
  money: number
}

/** How a turn waits for an answer from elsewhere. */
export interface WaitingNote {
  kind: string
  place: string
  since: string
  until: string
  leases: number
  leasedBy: string | null
  leasedUntil: string | null
  calls: ElsewhereCallView[]
}

/** What a turn did with an interview. */
export interface InterviewNote {
  id: string
  did: string
  question?: string
  value?: unknown
  why?: string
  /** The route that answered in between. */
  aside?: string
  differs?: Parting
  unsteady?: Parting
}

/** Where two runs of an interview part: at which step, what it was and is, and on which line. */
export interface Parting {
  n: number
  was: string
  is: string
  line?: string
}

/** A side effect on record. */
export interface OnceView {
  name: string
  /** How often it was begun. */
  runs: number
  startedAt: string
  endedAt: string | null
  value: unknown
  threw: { name: string; message: string } | null
}

/** A running or ended interview. */
export interface InterviewView {
  id: string
  who: string
  name: string | null
  handler: string
  route: string | null
  release: string
  stands: "asks" | "waits" | "set aside" | "ended"
  /** The open question, or what it waits for. */
  waits: string | null
  /** Until when. */
  until: string | null
  /** What was answered so far. */
  answers: { question: string; value: unknown }[]
  begunAt: string
  endedAt: string | null
  ended: string | null
  why: string | null
}

/** One person, with everything that is known of them. */
export interface PersonWhole {
  contact: string
  name: string | null
  tags: string[]
  fields: { [field: string]: unknown }
  blockedAt: string | null
  addresses: { channel: string; address: string; name: string | null; handle: string | null; language: string | null }[]
  /** Those of their own; groups are not among them. */
  conversations: {
    id: string
    channel: string
    address: string
    answeredBy: string
    /** Since when they want to be sent nothing more there. */
    optedOut: string | null
    /** Since when they want nothing that starts here. */
    noNotices: string | null
    lastAt: string | null
    state: { [field: string]: unknown }
  }[]
  /** Those that run. */
  interviews: { id: string; conversation: string; handler: string; stands: string }[]
}

/** A secret of a bot, without its value. */
export interface SecretView {
  name: string
  bot: string
  /** Null for all lanes. */
  lane: string | null
  setBy: string
  setAt: string
  /** Routes that list it, each with its lane. */
  usedBy: string[]
}

/** How far the forgetting of a person is, and what it has removed. */
export interface ForgettingView {
  id: string
  contact: string
  askedBy: string
  askedAt: string
  endedAt: string | null
  /** From 0 to 1. */
  progress: number
  removed: {
    /** Messages they said, and ours to them. */
    said: number
    answered: number
    /** Pictures and files nobody else has sent. */
    media: number
    /** Received calls that lost their body. */
    calls: number
    interviews: number
    conversations: number
  }
}

export interface ParkedNote {
  id: string
  cause: string
  reason: string
  remedy: string | null
  since: string
  decision: string | null
  decidedBy: string | null
}

export interface ReplyPath {
  message: MessageView
  calls: unknown[]
  attempts: AttemptView[]
  /** What the provider told of it since. */
  statuses: { status: string; why: string | null; at: string }[]
  parked: ParkedNote[]
}

export interface PassagePath {
  message: MessageView
  turns: TurnView[]
  /** Set while its turn waits for an answer from elsewhere. */
  waiting?: WaitingNote
  decision: { route: string; met: boolean; why: string; slots?: { [name: string]: string | number } }[]
  replies: ReplyPath[]
  courtesies?: AttemptView[]
  parked: ParkedNote[]
}

export interface IntakeView {
  id: string
  via: string
  method: string
  address: string
  headers: { [name: string]: string }
  body: string
  size: number
  answered: number | null
  verdict:
    { genuine: true; by: string } | { genuine: false; why: string; remedy: string; near?: string; tried?: string }
  unreadable?: string
  notes: string[]
  repeated: boolean
}

export interface Passage {
  id: string
  channel: string
  receivedAt: string
  stops: Stop[]
  intake?: IntakeView
  paths: PassagePath[]
}

export interface PassageSummary {
  id: string
  channel: string
  receivedAt: string
  stops: Stop[]
  conversation?: string
  title?: string | null
  address?: string | null
  text?: string
  event?: string
  message?: string
  repeated: boolean
}

export interface ConversationView {
  id: string
  channel: string
  address: string
  kind: string
  title: string | null
  topic: string | null
  contact: string | null
  answeredBy: string
  /** Since when a person answers, and who. */
  handedAt: string | null
  takenBy: string | null
  tags: string[]
  createdAt: string
  /** Since when they want nothing that starts here; they are answered all the same. */
  noNotices: string | null
  /** When the person was forgotten on request. */
  forgottenAt: string | null
  lastAt: string | null
  lastText: string | null
  lastDirection: string | null
  lastMessage: string | null
  lastIntake: string | null
  messages: number
  unsent: number
  parked: number
}

export interface ChannelShown {
  key: string
  kind: string
  state: "on" | "paused" | "locked out"
  reason?: string
  remedy?: string
  settings: { [name: string]: unknown }
  secrets: string[]
  /** The names of secrets that were replaced and still verify calls. */
  formerSecrets?: string[]
  /** Changes whenever the channel is changed: what an ETag says. */
  tag: string
  bot?: string
  lane: string
  /** The release that answers; nothing where no bot is known by that name or lane. */
  release?: string
  /** Whether its address can be registered at the provider from here. */
  connects: boolean
  identity?: { id: string; name?: string; handle?: string; remarks?: string[] }
  checkedAt?: string
  inlet: string
  lastGenuine?: string
  lastRefused?: string
  polling?: { says: string; remedy: string; since: string }
  receives: "webhook" | "polling"
  /** What it cannot do, in words. */
  cannot?: string[]
  /** What may be said along with one message, and other fields of calls that reach handlers. */
  extras?: { name: string; says: string }[]
  fields?: string[]
  /** Set for a channel whose gateway speaks by a profile; without one nothing it says can be read yet. */
  gateway?: { profile?: string }
  /** Who waits for a call to learn from, and until when. */
  learning?: { by: string; since: string; until: string }
  /** Which service elsewhere fetches this channel's calls. */
  bringing?: { by: string; since: string; until: string; taken: number; waiting: number; handed: number }
}

/** Who is signed in. */
export interface SessionView {
  name: string
  role: string
  /** The word our own pages repeat with every change. */
  csrf?: string
  /** Set where nothing but this channel is open to them. */
  channel?: string
}

/** A token, as it may be shown. */
export interface TokenShown {
  id: string
  /** Whose it is. */
  name: string
  role: string
  /** Set where it is good for this channel's calls alone, or for this queue's turns. */
  channel?: string
  queue?: string
  madeAt: string
  madeBy?: string
  /** To the minute. */
  usedAt?: string
  expiresAt?: string
  revokedAt?: string
}

/** Somebody signed in to the console. */
export interface SessionShown {
  id: string
  name: string
  role: string
  /** Where it was opened from. */
  address?: string
  startedAt: string
  /** To the minute. */
  usedAt: string
  /** When it ends in any case. */
  until: string
}

/** Something that was done, and by whom. */
export interface AuditShown {
  id: string
  /** The name of the token or the session's. */
  who: string
  /** The id of the token or session. */
  by?: string
  /** Where the request came from. */
  address?: string
  did: string
  detail?: { [field: string]: unknown }
  at: string
}

/** What waits on a channel, and would be lost with it. */
export interface ChannelWaiting {
  /** Messages that wait for their turn. */
  turns: number
  /** Replies that wait to be sent. */
  replies: number
  /** What waits for a person's decision. */
  parked: number
}

/** What went with a removed channel. */
export interface ChannelRemoved extends ChannelWaiting {
  /** Why our address could not be taken away from the provider, which may still call it. */
  stillCalls?: string
}

/** One thing that must be right for a channel to work. */
export interface CheckLine {
  about: "keys" | "permissions" | "address on record" | "way in" | "calls" | "account" | "bot"
  mark: "right" | "wrong" | "open" | "left"
  says: string
  remedy?: string
  /** The call that was refused. */
  passage?: string
}

export interface ChannelCheck {
  channel: string
  ok: boolean
  lines: CheckLine[]
  identity?: ChannelShown["identity"]
  resumed: boolean
  byHand?: HandValue[]
}

export type FieldRole = "from" | "text" | "id" | "time" | "name" | "place" | "media" | "mime"

/** What was learned of a gateway so far. */
export interface LearningShown {
  inlet: string
  waiting?: { by: string; until: string; wanted: number; came: number }
  sample?: {
    at: string
    /** What else the samples tell, as it stands in a profile. */
    more: { message?: object; status?: object; state?: object; handshake?: object }
    body: "form" | "json" | "xml"
    fields: {
      where: string
      value: string
      role?: FieldRole
      /** How sure the role is, and which other fields could have it. */
      certainty?: "sure" | "likely" | "a guess"
      otherwise?: string[]
    }[]
    roles: { [role in FieldRole]?: string }
    proofs: { scheme: { scheme: string; secret: string }; certain: boolean; says: string }[]
    lacks: string[]
    /** What was proposed and may be wrong, in words. */
    doubts: string[]
    /** What tells our own words from other people's. */
    own?: OwnMark
    call: { method: string; address: string; headers: string[] }
  }
}

/** A provider's call that can be tried with a channel's keys. */
export interface OperationShown {
  name: string
  says: string
  method: Method
  path: string
  fields?: string[]
  usual?: { [field: string]: string }
  word?: string
  /** Whether it may change something, and is only shown at first. */
  asks: boolean
}

export type Method = "GET" | "POST" | "PUT" | "PATCH" | "DELETE"

export interface TryRequest {
  operation?: string
  method?: Method
  path?: string
  fields: { [name: string]: unknown }
  really: boolean
}

/** The request as it was built, keys unseen, and the raw answer. */
export interface TriedShown {
  request: { method: string; address: string; headers: { [name: string]: string }; body?: string }
  answer?: { status: number; headers: { [name: string]: string }; body: string; cut?: number }
  failure?: string
  milliseconds?: number
}

export interface SayRequest {
  text?: string
  press?: string
  media?: { data: string; mime: string; name: string }
  payload?: string
  again?: string
  from?: string
  name?: string
  place?: string
  really: boolean
}

/** What became of something that was said to try a bot. */
export interface SaidShown {
  passage: string
  answered: { status: number; body?: string }
  captured: boolean
  from: { address: string; name: string }
}

/** What came of one of a profile's samples. */
export interface SampleShown {
  name: string
  passed: boolean
  faults: string[]
  /** What came out, where nothing says what must. */
  came?: object
}

/** An example of a request: a curl command, HTTP, or a HAR entry. */
export interface RequestExample {
  text: string
  as?: RequestSort
}

/** A call that an OpenAPI document describes: one of ours, or one that the gateway makes. */
export interface DescribedCall {
  name: string
  sort: "operation" | "webhook"
  method: string
  path: string
  says: string
}

/** What an example is for. */
export type RequestSort =
  | "send"
  | "register"
  | "unregister"
  | "address on record"
  | "who am I"
  | "fetch from the queue"
  | "remove from the queue"
  | "attachment"
  | "history"
  | "one message"

/** What examples of requests seem to be, and the profile they make. */
export interface ExamplesShown {
  apiBase: string
  name: string
  calls: { sort: string; calling: { method: string; address: string }; found: string[]; stays: string[] }[]
  settings: { name: string; says: string; example?: string }[]
  secrets: { name: string; says: string }[]
  lacks: string[]
  doubts: string[]
  /** YAML; not there where the examples do not make a profile. */
  source?: string
  faults?: string[]
  file?: string
}

/** A field that says whose words they are, and the values with which they are our own. */
export interface OwnMark {
  where: string
  values: (string | boolean)[]
}

export interface LearnedAgreement {
  name: string
  places: { [role in FieldRole]?: string }
  own?: OwnMark
  proof?: object
  /** Further fields that reach handlers, by their names. */
  fields?: { [name: string]: string }
  addresses?: "numbers" | "names"
  /** Examples of requests as documentation shows them. */
  requests?: RequestExample[]
  /** An example of an answer inside the gateway's own call. */
  answer?: string
  /** Examples of what the gateway answers to calls of ours. */
  answers?: { to: RequestSort; text: string }[]
  /** Where the account is linked again. */
  remedy?: string
  sending?: {
    address: string
    body?: "json" | "form"
    send: object
    bearer?: string
    basic?: [string, string]
    headers?: { [name: string]: string }
    id?: string
  }
  secrets?: { [name: string]: string }
  settings?: { [name: string]: unknown }
}

export interface ProfileShown {
  name: string
  title: string
  origin: "ships" | "folder" | "learned" | "set"
  secrets: string[]
  settings: string[]
  source: string
}

export interface ProfileFault {
  line: number
  field: string
  says: string
  remedy: string
}

/** A call as it travels from a service that can be reached to one that cannot. */
export interface CarriedCall {
  id: string
  method: string
  address: string
  headers: { [name: string]: string }
  /** Base64. */
  body: string
  receivedAt: string
}

export interface CarriedAnswer {
  status: number
  headers?: { [name: string]: string }
  body?: string
}

/** Somebody who ever spoke on a channel. */
export interface PersonView {
  channel: string
  address: string
  name: string | null
  handle: string | null
  contact: string
  tags: string[]
  fields: { [field: string]: unknown }
  conversation: string | null
}

/** One thing a person enters or switches at the provider, and whether it is done, where that can be seen. */
export interface HandValue {
  field: string
  value: string
  done?: boolean
}

export interface Comparison {
  onRecord?: {
    address?: string
    waiting?: number
    lastError?: { at?: string; says: string }
    events?: string[]
    connections?: number
  }
  /** What people see of the bot at the provider, where that is not what its folder wants. */
  account?: {
    differences: { field: string; wanted: string; now?: string; byHand?: string }[]
    set?: string[]
    fault?: string
  }
  /** What was said before the channel was connected: how many messages came, or why none could be fetched. */
  history?: { fetched: number } | { fault: string }
  differences: string[]
  fault?: { says: string; remedy: string }
  /** What a person enters at the provider: their name for a field, and our value. */
  byHand?: HandValue[]
}

/** A file of the local journal, in which calls wait while the database is away. */
export interface JournalFileView {
  file: string
  /** `open` while it is written, `sealed`, `reading`, or `kept`: not all of it could be read, and nobody reads it again. */
  state: "open" | "sealed" | "reading" | "kept"
  /** The process that wrote it. */
  writer: string
  /** Whether that is the process that answers. */
  own: boolean
  /** Calls in it that are whole. */
  calls: number
  /** Stretches of it that cannot be read. */
  damaged: number
  /** Bytes of a last call that was never written to its end: its caller had no answer. */
  torn: number
  bytes: number
}

/** What came of reading in a file of the local journal. */
export interface JournalFileRead {
  file: string
  /** Calls that are in the database now. */
  read: number
  /** Calls that the database will not take, and stretches that cannot be read: the file is kept for them. */
  left: number
}

export interface ParkedView extends ParkedNote {
  what: "turn" | "send"
  channel: string
  conversation: string
  message: string
  decidedAt: string | null
  text: string
  title: string | null
  /** The provider's address of the place. */
  address: string
}

export interface BotView {
  folder?: string
  bot?: string
  release?: string
  loadedAt?: string
  faults: BotFault[]
  /** What is odd about its routes, such as one that is never met. */
  notes: BotFault[]
}

export interface BotFault {
  file: string
  line?: number
  column?: number
  says: string
  remedy?: string
}

/** What one route did lately; the empty name stands for what no route took. */
export interface RouteView {
  route: string
  /** Its condition, on a line; not there where the release no longer has the route. */
  when?: string
  handler?: string
  gone?: true
  hits: number
  /** Of all that was answered, 0 to 1. */
  share: number
  failures: number
  /** Milliseconds. */
  mean: number | null
  slowest: number | null
  lastAt: string | null
  /** Hits by step, the oldest first. */
  chart: number[]
  notes: { says: string; remedy?: string }[]
}

export interface RoutesView {
  bot: string
  release: string
  days: number
  routes: RouteView[]
  unrouted: RouteView
}

/** Messages that no route took and that are alike, the newest first, and a phrase that would take them. */
export interface UnroutedGroup {
  count: number
  /** Conversations in which they were said. */
  people: number
  lastAt: string
  phrase?: string
  messages: { id: string; text: string; conversation: string; receivedAt: string }[]
}

/** What is to be explained, and what is known about where it is said and by whom. */
export interface ExplanationAsk {
  text?: string
  choice?: string
  /** The id of a message on record: its words, place, person and state count where nothing else is given. */
  message?: string
  channel?: string
  /** A kind of place; or a place by its conversation, its provider's id or its title. */
  place?: string
  /** A person by the contact's id, or the provider's. */
  person?: string
  state?: { [field: string]: unknown }
  /** ISO 8601, in the bot's zone where it names none. */
  at?: string
}

export interface Explanation {
  took: "route" | "unrouted" | "passed over"
  route?: string
  /** Why it is passed over. */
  why?: string
  /** What a text handler would say. */
  says?: string
  /** Routes before that would take it, depending on what is not given. */
  unless: { route: string; why: string }[]
  slots?: { [name: string]: string | number }
  handler?: string
  release: string
  routes: RouteWhy[]
}

/** Whether a route took a message, and why; `depends` where that is open. */
export interface RouteWhy {
  route: string
  met: boolean
  depends?: true
  why: string
  slots?: { [name: string]: string | number }
}

export interface Page<Item> {
  items: Item[]
  next: string | null
  /**
   * Set when the time for one request was over before the page was full. Everything down to here was looked at: a time
   * (ISO 8601), or where the list is by name, the last one. `next` looks further.
   */
  lookedTo?: string
}

export interface LiveEvent {
  what: "message" | "turn" | "attempt" | "parked" | "decided" | "status" | "channels"
  /** Null where it tells of a whole conversation. */
  message: string | null
  conversation: string | null
  outcome: string | null
}

/** How one reply looks on one kind of channel. */
export interface KindLook {
  kind: string
  provider: string
  title: string
  parts: { part: string; looks: LookView[]; degraded: string[]; impossible?: string; leftOut?: string }[]
}

/** What a person sees of one call. */
export interface LookView {
  words: { text: string; as?: "bold" | "italic" | "code" | "link" }[]
  picture?: string
  with?: string
  options?: { label: string; as: "button" | "quick reply" | "row" | "menu" | "link" }[]
  beside?: LookView[]
  segments?: { alphabet: string; units: number; count: number; left: number }
}

/** One setting or secret, as a form needs it to ask for it. */
export interface FieldHelp {
  name: string
  /** What it means, in words. */
  says: string
  required: boolean
  /** What it may be, where it is one of a few. */
  options?: string[]
  default?: string | number | boolean
  /** Whether every kind of channel has it, and most do without. */
  common: boolean
}

/** What a channel of a kind is asked for when it is made. */
export interface KindFields {
  kind: string
  settings: FieldHelp[]
  secrets: FieldHelp[]
}

export interface KindShown {
  kind: string
  provider: string
  abilities: { parts: { [part: string]: { how: "native" | "simpler" | "words" | "left out"; as: string } } }
}
