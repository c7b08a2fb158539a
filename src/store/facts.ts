import type { Database } from "./database.ts"
import { hotRows } from "./database.ts"

/** What is asked about a conversation before something in it is decided. */
export interface FactsAsked {
  conversation: string
  channel: string
  /** The first of the messages to decide about. */
  position: number
  contact: string | null
  /** Providers' ids of messages that may be ours: the one that is answered, the one a thread hangs on. */
  answered: string[]
  /** Where the place is a thread: the address of what it hangs on. */
  address: string
}

export interface FactsFound {
  placeTags: string[]
  contact: { tags: string[]; fields: { [field: string]: unknown } } | null
  taken: { [route: string]: number } | null
  /** When something was said before, ISO 8601. */
  before: Date | null
  answersBot: boolean
}

/** Messages of a conversation, the newest, among which an answered one is looked for. */
const mostLooked = 200

/** Looked up in one statement, and only for bots that ask for any of it. */
export async function factsOf(database: Database, asked: FactsAsked): Promise<FactsFound> {
  const { conversation, channel, position, contact, answered, address } = asked
  const ours = (where: string) =>
    `EXISTS (SELECT 1 FROM (SELECT id FROM messages WHERE conversation = ${where} AND direction = 'out'
       ORDER BY position DESC LIMIT ${mostLooked}) m JOIN attempts a ON a.message = m.id WHERE a.provider_id = ANY(?))`
  const [found] = await hotRows<FactsFound>(
    database,
    `SELECT v.tags AS "placeTags",
       (SELECT jsonb_build_object('tags', to_jsonb(c.tags), 'fields', c.fields) FROM contacts c WHERE c.id = ?) AS contact,
       (SELECT s.taken FROM states s WHERE s.conversation = v.id) AS taken,
       (SELECT m.received_at FROM messages m WHERE m.conversation = v.id AND m.position < ? ORDER BY m.position DESC LIMIT 1) AS before,
       cardinality(?::text[]) > 0 AND (${ours("v.id")} OR ${ours(
         "(SELECT p.conversation FROM places p WHERE p.channel = ? AND p.address = ? AND p.topic = '')",
       )}) AS "answersBot"
     FROM conversations v WHERE v.id = ?`,
    [contact, position, answered, answered, channel, address, answered, conversation],
  )
  return found ?? { placeTags: [], contact: null, taken: null, before: null, answersBot: false }
}

/** What messages of a conversation said that others answer, by the provider's ids; of the newest alone. */
export async function wordsAnswered(
  database: Database,
  conversation: string,
  ids: string[],
): Promise<Map<string, string>> {
  const found = await hotRows<{ id: string; words: string | null }>(
    database,
    `SELECT coalesce(m.provider_id, a.provider_id) AS id, m.words
     FROM (SELECT id, provider_id, words FROM messages WHERE conversation = ? ORDER BY position DESC LIMIT ${mostLooked}) m
       LEFT JOIN attempts a ON a.message = m.id
     WHERE coalesce(m.provider_id, a.provider_id) = ANY(?)`,
    [conversation, ids],
  )
  return new Map(found.flatMap(({ id, words }) => (words ? [[id, words] as const] : [])))
}
