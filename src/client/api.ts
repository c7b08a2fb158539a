import type {
  AuditShown,
  BotView,
  CarriedAnswer,
  CarriedCall,
  ChannelCheck,
  ChannelRemoved,
  ChannelShown,
  ChannelWaiting,
  Comparison,
  ConversationView,
  DescribedCall,
  ElsewhereAnswer,
  EndpointView,
  ExamplesShown,
  Explanation,
  ExplanationAsk,
  RoutesView,
  UnroutedGroup,
  FieldRole,
  InterviewView,
  JournalFileRead,
  JournalFileView,
  KindLook,
  KindFields,
  KindShown,
  LearnedAgreement,
  LearningShown,
  LeaseView,
  MessageView,
  OperationShown,
  Page,
  ParkedView,
  Passage,
  PassageSummary,
  PersonView,
  ForgettingView,
  SecretView,
  PersonWhole,
  ProfileFault,
  ProfileShown,
  QueuedView,
  QueueView,
  ModelView,
  NoticeGiven,
  NoticeKept,
  NoticeTried,
  NoticeView,
  RecipientView,
  RequestExample,
  RequestSort,
  SaidShown,
  SampleShown,
  SayRequest,
  SessionShown,
  SessionView,
  TokenShown,
  TriedShown,
  TryRequest,
} from "./types.ts"

type Fields = { [name: string]: unknown }
type Texts = { [name: string]: string }
interface Paged {
  limit: number
  cursor?: string
}
interface Sent {
  conversation: string
  messages: string[]
}

/**
 * Every operation of the API: its query and body, as they are once they were checked and filled with their defaults, and
 * its answer, as it goes over the wire. The service's routes and the client are both typed by this.
 */
export interface Api {
  "GET /channels": { answer: Page<ChannelShown> }
  "POST /channels": { body: { kind: string; key: string; settings: Fields; secrets: Texts }; answer: ChannelShown }
  "GET /channels/{key}": { answer: ChannelShown }
  "PATCH /channels/{key}": {
    body: { settings?: Fields; secrets?: Texts; keepFormer?: boolean; dropFormer?: boolean }
    answer: ChannelShown
  }
  "DELETE /channels/{key}": { query: { waiting: "refuse" | "drop" }; answer: ChannelRemoved }
  "GET /channels/{key}/waiting": { answer: ChannelWaiting }
  "POST /channels/{key}/check": { answer: ChannelCheck }
  "POST /channels/{key}/connect": { answer: Comparison }
  "GET /channels/{key}/record": { answer: Comparison }
  "POST /channels/{key}/address": { answer: { address: string } }
  "GET /channels/{key}/operations": { answer: Page<OperationShown> }
  "POST /channels/{key}/call": { body: TryRequest; answer: TriedShown }
  "POST /channels/{key}/say": { body: SayRequest; answer: SaidShown }
  "POST /channels/{key}/pause": { answer: ChannelShown }
  "POST /channels/{key}/resume": { answer: ChannelShown }
  "POST /channels/{key}/learn": { body: { minutes: number; wanted: number }; answer: LearningShown }
  "POST /channels/{key}/learn/samples": { body: { samples: string[] }; answer: LearningShown }
  "GET /channels/{key}/learn": { answer: LearningShown }
  "DELETE /channels/{key}/learn": { answer: void }
  "POST /channels/{key}/learn/agree": {
    body: LearnedAgreement & { places: { [role in FieldRole]?: string } }
    answer: { channel: ChannelShown; profile: string; file?: string; first?: { status: number }; stays: string[] }
  }
  "GET /profiles": { answer: Page<ProfileShown> }
  "POST /profiles": { body: { source: string; keep: boolean }; answer: { name?: string; faults: ProfileFault[] } }
  "POST /profiles/from-request": {
    body: { examples: RequestExample[]; name: string; into?: string; keep: boolean }
    answer: ExamplesShown
  }
  "POST /profiles/from-openapi": {
    body: {
      document: string
      name: string
      send?: string
      webhook?: string
      more: { operation: string; as: RequestSort }[]
      keep: boolean
    }
    answer: ExamplesShown & { offered: DescribedCall[] }
  }
  "POST /profiles/test": {
    body: { source: string; samples: { name: string; call: string; expect?: string }[] }
    answer: { faults: ProfileFault[]; results: SampleShown[] }
  }
  "POST /bring/{key}/calls": { body: { wait: number }; answer: Page<CarriedCall> }
  "POST /bring/{key}/answers": { body: { id: string } & CarriedAnswer; answer: { taken: boolean } }
  "DELETE /bring/{key}": { query: { all: boolean }; answer: { handled: number } }
  "POST /bring/{key}/in": { body: CarriedCall; answer: CarriedAnswer }
  "GET /messages": {
    query: Paged & {
      channel?: string
      conversation?: string
      direction?: "in" | "out"
      event?: string
      status?: string
      doubtful?: boolean
      route?: string
      from?: Date
      to?: Date
      text?: string
    }
    answer: Page<MessageView>
  }
  "GET /messages/{id}": { answer: MessageView }
  "POST /messages": {
    body: { to: string; channel?: string; text?: string; replies?: object[]; extra?: Texts }
    answer: Sent
  }
  "GET /conversations": {
    query: Paged & {
      channel?: string
      kind?: "direct" | "group" | "broadcast"
      text?: string
      waiting?: boolean
      order: "spoken" | "begun"
    }
    answer: Page<ConversationView>
  }
  "GET /people": { query: Paged & { channel?: string; tag?: string; text?: string }; answer: Page<PersonView> }
  "PATCH /people/{contact}": {
    body: { addTags?: string[]; removeTags?: string[]; fields?: Fields }
    answer: { contact: string; tags: string[]; fields: Fields }
  }
  "GET /people/{contact}": { answer: PersonWhole }
  "POST /people/{contact}/join": { body: { other: string }; answer: PersonWhole }
  "POST /people/{contact}/split": { body: { channel: string; address: string }; answer: PersonWhole }
  "PUT /people/{contact}/block": { body: { blocked: boolean }; answer: { contact: string; blockedAt: string | null } }
  "POST /people/{contact}/forget": { answer: ForgettingView }
  "POST /people/{contact}/code": { answer: { contact: string; code: string; until: string } }
  "GET /forgettings/{id}": { answer: ForgettingView }
  "POST /answers": { body: ElsewhereAnswer; answer: void }
  "POST /notices": { body: NoticeGiven; answer: Page<NoticeKept> }
  "POST /notices/try": { body: NoticeGiven; answer: NoticeTried }
  "GET /notices": { query: Paged & { type?: string }; answer: Page<NoticeView> }
  "GET /notices/{id}": { answer: NoticeView }
  "GET /notices/{id}/recipients": { query: Paged & { state?: string }; answer: Page<RecipientView> }
  "GET /queues": { answer: Page<QueueView> }
  "GET /queues/{name}": { query: Paged; answer: Page<QueuedView> }
  "POST /queues/{name}/lease": {
    body: { most: number; wait: number; seconds: number; bot?: string; lane?: string }
    answer: Page<LeaseView>
  }
  "POST /queues/{name}/finish": {
    body: { lease: string } & ElsewhereAnswer
    answer: { conversation: string; message: string }
  }
  "POST /queues/{name}/release": { body: { lease: string; after: number }; answer: void }
  "POST /queues/{name}/extend": { body: { lease: string; seconds: number }; answer: { until: string } }
  "GET /models": { answer: Page<ModelView> }
  "GET /endpoints": { answer: Page<EndpointView> }
  "GET /secrets": { query: { bot?: string }; answer: Page<SecretView> }
  "PUT /secrets/{name}": {
    body: { value: string; bot?: string; lane?: string }
    answer: SecretView & { replaced: boolean }
  }
  "DELETE /secrets/{name}": { query: { bot?: string; lane?: string }; answer: void }
  "GET /conversations/{id}": {
    answer: ConversationView & { state: Fields; stateTag: string; interviews: InterviewView[] }
  }
  "POST /conversations/{id}/interviews": {
    body: { interview: string; do: "end" | "back" }
    answer: { message: string }
  }
  "GET /conversations/{id}/messages": { query: Paged; answer: Page<MessageView> }
  "PATCH /conversations/{id}": {
    body: { answeredBy?: "bot" | "person"; take?: true; addTags?: string[]; removeTags?: string[] }
    answer: ConversationView
  }
  "PUT /conversations/{id}/state": { body: { state: Fields }; answer: { state: Fields } }
  "POST /conversations/{id}/reset": { answer: void }
  "GET /passages": {
    query: Paged & { channel?: string; genuine?: boolean; quiet?: boolean }
    answer: Page<PassageSummary>
  }
  "GET /passages/{id}": { answer: Passage }
  "GET /journal": { query: Paged; answer: Page<JournalFileView> }
  "POST /journal/read": { answer: Page<JournalFileRead> }
  "GET /parked": { query: Paged & { channel?: string; open: boolean }; answer: Page<ParkedView> }
  "POST /parked/{id}/retry": { answer: ParkedView }
  "POST /parked/{id}/edit": { body: { text: string }; answer: { messages: string[] } }
  "POST /parked/{id}/drop": { answer: ParkedView }
  "POST /looks": { body: { replies: object[]; kinds?: string[] }; answer: Page<KindLook> }
  "GET /kinds": { answer: Page<KindShown> }
  "GET /kinds/{kind}": { query: { profile?: string }; answer: KindFields }
  /** The content itself. */
  "GET /media/{hash}": { answer: unknown }
  "GET /bot": { answer: BotView }
  "POST /bot/check": { body: { folder?: string }; answer: BotView & { routes?: string[] } }
  "POST /bot/explain": {
    body: ExplanationAsk
    answer: Explanation
  }
  "GET /routes": { query: { days: number }; answer: RoutesView }
  "GET /routes/unrouted": {
    query: { days: number }
    answer: { looked: number; whole: boolean; items: UnroutedGroup[] }
  }
  "GET /session": { answer: SessionView }
  "POST /session": { body: { token?: string; once?: string }; answer: SessionView }
  "DELETE /session": { answer: void }
  "GET /sessions": { answer: Page<SessionShown> }
  "DELETE /sessions/{id}": { answer: void }
  "GET /tokens": { answer: Page<TokenShown> }
  "POST /tokens": {
    body: {
      name: string
      role: "owner" | "developer" | "operator" | "reader" | "bring" | "worker"
      channel?: string
      queue?: string
      days?: number
    }
    answer: { id: string; token: string; name: string; role: string; expiresAt?: string }
  }
  "DELETE /tokens/{id}": { answer: TokenShown }
  "GET /audit": { query: Paged & { who?: string; did?: string }; answer: Page<AuditShown> }
}

export type Operation = keyof Api

export type QueryOf<Name extends Operation> = Api[Name] extends { query: infer Query } ? Query : undefined
export type BodyOf<Name extends Operation> = Api[Name] extends { body: infer Body } ? Body : undefined
export type AnswerOf<Name extends Operation> = Api[Name]["answer"]
