import pg from "pg"
import { openDatabase } from "../src/store/database.ts"
import { makePartitions } from "../src/store/partitions.ts"

/** How large a record to make. */
export interface RecordSize {
  /** Half of them in, half of them out. */
  messages: number
  /** Months over which they are spread evenly, the last one ending now. */
  months: number
}

/** What the lists and searches are asked for: where the made-up record has what is common, rare or large. */
export interface MadeRecord {
  /** The conversation with every 40th message. */
  large: string
  /** A word of every third message, and one of every 500th. */
  common: string
  rare: string
  /** A channel with most of the messages, and one with next to none. */
  busy: string
  still: string
  /** A day in the middle of the record. */
  day: Date
}

/** Every so many messages in … */
const often = { large: 20, refused: 25, doubtful: 500, parked: 400, odd: 400, choice: 7, location: 301, still: 503 }

/**
 * Fills an empty database of today's form with a made-up record: each message in is followed by one out. Written as SQL,
 * since a service that is spoken to two million times takes an hour for what this does in some minutes.
 */
export async function makeRecord(url: string, size: RecordSize): Promise<MadeRecord> {
  const now = new Date()
  const began = new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() - size.months, now.getUTCDate()))
  const database = openDatabase(url, { most: 1 })
  try {
    for (let month = 0; month <= size.months; month += 2)
      await makePartitions(database, new Date(Date.UTC(began.getUTCFullYear(), began.getUTCMonth() + month, 1)))
  } finally {
    await database.destroy()
  }
  const client = new pg.Client({ connectionString: url })
  await client.connect()
  const pairs = Math.floor(size.messages / 2)
  const people = Math.max(10, Math.floor(size.messages / 100))
  try {
    await client.query(helpers)
    await client.query(scripted(pairs, people, began, (now.getTime() - 60_000 - began.getTime()) / pairs))
    for (const step of steps) await client.query(step)
    await client.query("VACUUM (ANALYZE)")
  } finally {
    await client.end()
  }
  return {
    large: "cnv_large",
    common: "crossing",
    rare: "lantern",
    busy: "quay-whatsapp",
    still: "quiet-sms",
    day: new Date((now.getTime() + began.getTime()) / 2),
  }
}

const letters = "'0123456789abcdefghjkmnpqrstvwxyz'"
const digit = (place: number) => `substr(${letters}, ((ms >> ${place * 5}) & 31)::int + 1, 1)`

/** Ids as the service makes them: ten characters of the time, then what tells them apart. */
const helpers = `
  CREATE FUNCTION pg_temp.made(prefix text, ms bigint, n bigint) RETURNS text LANGUAGE sql IMMUTABLE AS $$
    SELECT prefix || '_' || ${[9, 8, 7, 6, 5, 4, 3, 2, 1, 0].map(digit).join(" || ")} || lpad(n::text, 16, '0')
  $$`

/** One row a message in: when, in which conversation and where in it, what kind of a case. */
const scripted = (pairs: number, people: number, began: Date, gap: number) => `
  CREATE TEMP TABLE script AS
  SELECT p, at, pg_temp.made('msg', ms, p * 2) AS id, pg_temp.made('msg', ms + 900, p * 2 + 1) AS reply,
    pg_temp.made('itk', ms, p) AS intake, pg_temp.made('trn', ms, p) AS turn,
    CASE WHEN p % ${often.still} = 0 THEN 'cnv_still' WHEN p % ${often.large} = 0 THEN 'cnv_large' ELSE 'cnv_' || lpad(c::text, 8, '0') END AS conversation,
    CASE WHEN p % ${often.still} = 0 THEN 10000000 WHEN p % ${often.large} = 0 THEN 0 ELSE c END AS person,
    CASE WHEN p % ${often.still} = 0 THEN p / ${often.still} WHEN p % ${often.large} = 0 THEN p / ${often.large} ELSE p / ${people} END * 2 + 1 AS position,
    CASE WHEN p % ${often.still} = 0 THEN 'quiet-sms' WHEN p % ${often.large} = 0 THEN 'quay-whatsapp'
      WHEN c % 4 = 3 THEN 'quay-telegram' ELSE 'quay-whatsapp' END AS channel,
    CASE WHEN p % ${often.location} = 0 THEN 'location' WHEN p % ${often.choice} = 0 THEN 'choice' ELSE 'text' END AS event,
    CASE WHEN p % ${often.odd} = 0 THEN '???' ELSE
      (ARRAY['When is the next crossing to Holm Island?', 'Is there room for a bicycle on the boat', 'I left my scarf at the quay'])[1 + p % 3]
      || CASE WHEN p % 250 = 7 THEN ' with a lantern' ELSE '' END || ' ' || (p % 9973) END AS words,
    p % ${often.doubtful} = 11 AS doubtful, p % ${often.parked} = 13 AS parked, p > ${pairs - 5} AS open,
    -- Transactions that lie behind: what is newest came with many of them, as with a service that is spoken to.
    (CASE WHEN p > ${pairs - 30_000} THEN 3 + (p - ${pairs - 30_000}) / 50 ELSE 2 END)::text::xid8 AS xid
  FROM (
    SELECT p, 1 + p % ${people} AS c, at, (extract(epoch FROM at) * 1000)::bigint AS ms
    FROM (SELECT p, '${began.toISOString()}'::timestamptz + p * ${gap} * interval '1 millisecond' AS at
      FROM generate_series(1::bigint, ${pairs}) p) spread
  ) timed`

const body = `jsonb_build_object('event', event, 'text', words, 'place', jsonb_build_object('address', '4479' || person, 'kind', 'direct'),
  'from', jsonb_build_object('address', '4479' || person, 'name', 'Person ' || person), 'providerId', 'wamid.' || p)`

const steps = [
  `INSERT INTO channels (key, kind, settings, sealed)
   VALUES ('quay-whatsapp', 'whatsapp', '{}', '{}'), ('quay-telegram', 'telegram', '{}', '{}'), ('quiet-sms', 'sms', '{}', '{}')`,
  `INSERT INTO intakes (id, channel, via, method, address, headers, body, genuine, verdict, event_keys, answered, received_at)
   SELECT intake, channel, 'webhook', 'POST', '/in/' || channel, '{"content-type": "application/json"}',
     convert_to(${body}::text, 'UTF8'), true, '{"genuine": true, "by": "signature"}', ARRAY['m:' || p], 200, at FROM script`,
  // A call that told of a status, and now and then one that was refused. Those are forgotten after a month.
  `INSERT INTO intakes (id, channel, via, method, address, headers, body, genuine, verdict, event_keys, answered, received_at)
   SELECT pg_temp.made('itk', (extract(epoch FROM at) * 1000)::bigint + 2000, p), channel, 'webhook', 'POST', '/in/' || channel, '{}'::jsonb, '{}'::bytea, true,
     '{"genuine": true, "by": "signature"}'::jsonb, '{}'::text[], 200, at + interval '2 seconds' FROM script WHERE channel = 'quay-whatsapp'
   UNION ALL SELECT pg_temp.made('itk', (extract(epoch FROM at) * 1000)::bigint + 3000, p), channel, 'webhook', 'POST', '/in/' || channel, '{}', '{}', false,
     '{"genuine": false, "why": "no signature"}', '{}', 401, at + interval '3 seconds' FROM script
     WHERE p % ${often.refused} = 3 AND at > now() - interval '30 days'`,
  `INSERT INTO seen (channel, event_key, message) SELECT channel, 'm:' || p, id FROM script WHERE at > now() - interval '30 days'`,
  `INSERT INTO messages (id, channel, conversation, direction, event, position, origin, intake, provider_id, body, words, search, sent_at, received_at, xid)
   SELECT id, channel, conversation, 'in', event, position, 'provider', intake, 'wamid.' || p, ${body}, words, to_tsvector('simple', words), at, at, xid FROM script`,
  `INSERT INTO messages (id, channel, conversation, direction, event, position, origin, turn, body, calls, words, search, received_at, xid)
   SELECT reply, channel, conversation, 'out', 'text', position + 1, 'handler', turn, '{"replies": [{"part": "text", "text": "The next one leaves at 14:20."}]}',
     '[{"name": "send"}]', 'The next one leaves at 14:20.', to_tsvector('simple', 'The next one leaves at 14:20.'), at + interval '900 milliseconds', xid FROM script WHERE NOT parked`,
  `INSERT INTO turns (message, turn, lead, conversation, outcome, reason, route, handler, release, state_before, replies, started_at, ended_at, xid)
   SELECT id, turn, id, conversation, CASE WHEN parked THEN 'failed' WHEN p % 97 = 0 THEN 'unrouted' ELSE 'handled' END,
     CASE WHEN parked THEN 'the handler threw' END, 'next crossing', 'crossings', 'r1', '{}', CASE WHEN NOT parked THEN ARRAY[reply] END,
     at + interval '800 milliseconds', at + interval '900 milliseconds', xid FROM script WHERE NOT open OR parked`,
  `INSERT INTO attempts (message, attempt, call, name, outcome, why, status, answer, provider_id, trace, started_at, at, xid)
   SELECT reply, 1, 0, 'send', CASE WHEN doubtful THEN 'unclear' WHEN p % 301 = 17 THEN 'refused' ELSE 'accepted' END,
     CASE WHEN doubtful THEN 'no answer came' END, 200, '{"ok": true}', 'wamid.out.' || p, CASE WHEN channel = 'quay-whatsapp' THEN channel || ' wamid.out.' || p END,
     at + interval '900 milliseconds', at + interval '1 second', xid FROM script WHERE NOT parked AND NOT open`,
  `INSERT INTO statuses (trace, status, at, intake, xid)
   SELECT channel || ' wamid.out.' || p, CASE WHEN p % 2 = 0 THEN 'delivered' ELSE 'read' END, at + interval '2 seconds',
     pg_temp.made('itk', (extract(epoch FROM at) * 1000)::bigint + 2000, p), xid FROM script WHERE channel = 'quay-whatsapp' AND NOT parked AND NOT doubtful AND NOT open`,
  `INSERT INTO parked (id, what, cause, reason, channel, conversation, message, since, decision, decided_by, decided_at)
   SELECT pg_temp.made('prk', (extract(epoch FROM at) * 1000)::bigint, p), 'turn', 'handler', 'the handler threw', channel, conversation, id, at,
     CASE WHEN p / 400 % 2 = 1 THEN 'drop' END, CASE WHEN p / 400 % 2 = 1 THEN 'quay desk' END, CASE WHEN p / 400 % 2 = 1 THEN at + interval '1 hour' END FROM script WHERE parked
   UNION ALL SELECT pg_temp.made('prk', (extract(epoch FROM at) * 1000)::bigint, p), 'send', 'doubt', 'no answer came', channel, conversation, reply, at, 'drop', 'quay desk', at FROM script WHERE doubtful`,
  `INSERT INTO outbox (conversation, position, channel, message, state, due_at)
   SELECT conversation, position + 1, channel, reply, 'waiting', now() FROM script WHERE open AND NOT parked`,
  `INSERT INTO conversations (id, channel, address, kind, title, contact, created_at)
   SELECT DISTINCT ON (conversation) conversation, channel, '4479' || person, 'direct', 'Person ' || person || CASE WHEN person % 97 = 5 THEN ' Okonkwo' ELSE '' END, 'con_' || person, at
   FROM script ORDER BY conversation, at`,
  "INSERT INTO places (channel, address, conversation) SELECT channel, address, id FROM conversations",
  "INSERT INTO contacts (id, name) SELECT contact, title FROM conversations",
  "INSERT INTO addresses (channel, address, contact, name) SELECT channel, address, contact, title FROM conversations",
  "INSERT INTO states (conversation, state) SELECT id, '{}' FROM conversations",
  `INSERT INTO work (conversation, channel, due_at, next_position, heard, last_id)
   SELECT conversation, min(channel), CASE WHEN bool_or(open) THEN timestamptz 'infinity' END, max(position) + 2, max(position) + 1 - CASE WHEN bool_or(open) THEN 2 ELSE 0 END,
     max(reply) FROM script GROUP BY conversation`,
]
