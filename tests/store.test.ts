import fc from "fast-check"
import { Directory } from "../src/engine/people/directory.ts"
import { errandsDue } from "../src/store/errands.ts"
import type { Errand } from "../src/store/errands.ts"
import { hotRows, migrate, openDatabase, rows } from "../src/store/database.ts"
import type { Database } from "../src/store/database.ts"
import { conversationsAt } from "../src/store/directory.ts"
import { newId } from "../src/store/ids.ts"
import type { Intake } from "../src/store/intake.ts"
import { acceptIntakes, isForgotten } from "../src/store/intake.ts"
import * as first from "../src/store/migrations/0001-first.ts"
import * as fewerRows from "../src/store/migrations/0002-fewer-rows.ts"
import * as writtenSearch from "../src/store/migrations/0005-written-search.ts"
import { batch, listLiteral } from "../src/store/unnest.ts"
import { emptyDatabase, freshDatabase } from "./support/harness.ts"

let database: Database
beforeAll(() => {
  database = openDatabase(`${process.env.TEST_DATABASE_SERVER}/postgres`, { most: 1 })
})
afterAll(() => database.destroy())

const words = fc.oneof(
  fc.string({ unit: "grapheme", maxLength: 40 }).map((text) => text.toWellFormed().replaceAll("\u0000", "")),
  fc.constantFrom("NULL", "", "{}", '"', "\\", "a,b", '\\"', " "),
)

test("a batch brings every value to PostgreSQL as it was: text, numbers, times, bytes, nothing", async () => {
  const record = fc.record({
    text: fc.option(words),
    json: fc.option(fc.record({ a: fc.oneof(words, fc.integer(), fc.boolean()) })),
    long: fc.option(fc.maxSafeInteger()),
    small: fc.option(fc.integer()),
    part: fc.option(fc.double({ noNaN: true, noDefaultInfinity: true }).map((n) => (Object.is(n, -0) ? 0 : n))),
    flag: fc.option(fc.boolean()),
    at: fc.option(
      fc
        .date({ min: new Date("0001-01-01T00:00:00Z"), max: new Date("9999-12-31T00:00:00Z"), noInvalidDate: true })
        .map((date) => date.toISOString()),
    ),
    bytes: fc.option(fc.uint8Array({ maxLength: 20 }).map((bytes) => Buffer.from(bytes))),
  })
  const types = {
    text: "text",
    json: "jsonb",
    long: "bigint",
    small: "integer",
    part: "double precision",
    flag: "boolean",
    at: "timestamptz",
    bytes: "bytea",
  } as const
  await fc.assert(
    fc.asyncProperty(fc.array(record, { maxLength: 8 }), async (records) => {
      const { sql, values } = batch("b", records, types)
      const found = await rows(
        database,
        `SELECT text, json, long, small, part, flag, at, bytes FROM ${sql} ORDER BY ord`,
        values,
      )
      expect(JSON.stringify(found)).toBe(JSON.stringify(records))
    }),
    { numRuns: 100 },
  )
})

test("a list of texts is read as it was, whatever is in them", async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(words, { maxLength: 6 }), async (texts) => {
      const [found] = await rows<{ list: string[] }>(database, "SELECT ?::text::text[] AS list", [listLiteral(texts)])
      expect(found!.list).toEqual(texts)
    }),
    { numRuns: 100 },
  )
})

test("a statement whose prepared form was lost, as behind a pooling proxy, runs all the same", async () => {
  const ask = () => hotRows<{ n: number }>(database, "SELECT ?::integer + 1 AS hot", [41])
  const named = () =>
    rows<{ n: number }>(
      database,
      "SELECT count(*) AS n FROM pg_prepared_statements WHERE statement LIKE 'SELECT $1::integer + 1 AS hot'",
    )
  expect(await ask()).toEqual([{ hot: 42 }])
  expect(await named()).toEqual([{ n: 1 }])
  await rows(database, "DEALLOCATE ALL")
  expect(await ask()).toEqual([{ hot: 42 }])
  // Names are given up.
  expect(await named()).toEqual([{ n: 0 }])
})

test("what was on record before the second migration reads the same after it", async () => {
  const old = openDatabase(await emptyDatabase(), { most: 1 })
  await first.up(old)
  await rows(
    old,
    `CREATE TABLE messages_all PARTITION OF messages DEFAULT;
     CREATE TABLE calls_all PARTITION OF calls DEFAULT;
     CREATE TABLE attempts_all PARTITION OF attempts DEFAULT;
     INSERT INTO messages (id, channel, conversation, direction, event, position, origin, body, words)
       SELECT id, 'quay', 'cnv_1', 'out', 'text', 1, 'handler', '{}', 'hello' FROM unnest(ARRAY['msg_sent', 'msg_begun']) AS id;
     INSERT INTO calls (message, calls) VALUES ('msg_sent', '[{"name": "sendMessage"}]');
     INSERT INTO attempts (message, attempt, what, call, name, outcome, at) VALUES
       ('msg_sent', 1, 'started', 0, 'sendMessage', NULL, '2026-03-01T08:00:00Z'),
       ('msg_sent', 1, 'ended', 0, NULL, 'accepted', '2026-03-01T08:00:01Z'),
       ('msg_begun', 1, 'started', 0, 'sendMessage', NULL, '2026-03-01T08:00:02Z');
     INSERT INTO outbox (conversation, position, channel, message, state, due_at, attempt)
       VALUES ('cnv_1', 1, 'quay', 'msg_begun', 'sending', now(), 1)`,
  )
  await fewerRows.up(old)
  expect(await rows(old, "SELECT message, attempt, name, outcome, started_at, at FROM attempts")).toEqual([
    {
      message: "msg_sent",
      attempt: 1,
      name: "sendMessage",
      outcome: "accepted",
      started_at: new Date("2026-03-01T08:00:00Z"),
      at: new Date("2026-03-01T08:00:01Z"),
    },
  ])
  expect(await rows(old, "SELECT message, state, started_at FROM outbox")).toEqual([
    { message: "msg_begun", state: "sending", started_at: new Date("2026-03-01T08:00:02Z") },
  ])
  expect(await rows(old, "SELECT calls FROM messages WHERE id = 'msg_sent'")).toEqual([
    { calls: [{ name: "sendMessage" }] },
  ])
  await writtenSearch.up(old)
  expect(await rows(old, "SELECT id FROM messages WHERE search @@ to_tsquery('simple', 'hello') ORDER BY id")).toEqual([
    { id: "msg_begun" },
    { id: "msg_sent" },
  ])
  await old.destroy()
})

test("a batch that names more places than are kept at hand finds the conversation of each, again and again", async () => {
  const own = openDatabase(await freshDatabase(), { most: 2 })
  const directory = new Directory(own, (...of) => of.join(" "), 2)
  const said = Array.from({ length: 5 }, (_, at) => ({
    channel: "ferry",
    message: { event: "text" as const, place: { address: `71000000${at}`, kind: "direct" as const, title: `P${at}` } },
  }))
  const first = await directory.placesOf([...said, said[0]!])
  expect(new Set(first.map(({ conversation }) => conversation)).size).toBe(5)
  expect(first[5]).toEqual(first[0])
  expect(await directory.placesOf([...said, said[0]!])).toEqual(first)
  await own.destroy()
})

test("a message that comes while people are joined, split or forgotten keeps who said it", async () => {
  const own = openDatabase(await freshDatabase(), { most: 2 })
  const directory = new Directory(own, (...of) => of.join(" "))
  const said = {
    channel: "ferry",
    message: {
      event: "text" as const,
      place: { address: "720000001", kind: "direct" as const, title: "Ines" },
      from: { address: "720000001", name: "Ines", bot: false },
    },
  }
  let placing = true
  const joined = (async () => {
    while (placing) {
      directory.lookAgain()
      await new Promise((done) => setImmediate(done))
    }
  })()
  const [place] = await directory.placesOf([said]).finally(() => (placing = false))
  await joined
  const [known] = await rows<{ contact: string }>(own, "SELECT contact FROM addresses WHERE address = '720000001'")
  expect(place!.contact).toBe(known!.contact)
  await own.destroy()
})

describe("a batch of calls that is accepted", () => {
  const claim = { holder: "here", seconds: 30 }
  let own: Database
  let quay: string
  let holm: string

  beforeAll(async () => {
    const url = await freshDatabase()
    own = openDatabase(url)
    await migrate(url, own, new Date())
    await rows(own, "INSERT INTO channels (key, kind, settings, sealed) VALUES ('ferry', 'telegram', '{}', '{}')")
    const places = ["7100000001", "7100000002"].map((address) => ({ address, kind: "direct" as const }))
    ;[quay, holm] = (await conversationsAt(
      own,
      places.map((place) => ({ channel: "ferry", place })),
      (...of) => of.join(" "),
    )) as [string, string]
  })
  afterAll(() => own.destroy())

  /** A call with messages, each its event's key, its conversation and its text, in the order of receipt. */
  function call(...said: [key: string, conversation: string, text: string][]): Intake {
    return {
      id: newId("itk"),
      channel: "ferry",
      via: "webhook",
      method: "POST",
      address: "/in/ferry",
      headers: {},
      body: Buffer.from("{}"),
      verdict: { genuine: true, by: "a test" },
      notes: [],
      messages: said.map(([eventKey, conversation, text]) => ({
        id: newId("msg"),
        eventKey,
        conversation,
        message: { event: "text", text, place: { address: "7100000001", kind: "direct" } },
        words: text,
        courtesies: [],
        own: false,
        contact: null,
      })),
    }
  }
  const line = (conversation: string) =>
    rows<{ position: number; words: string }>(
      own,
      "SELECT position, words FROM messages WHERE conversation = ? ORDER BY position",
      [conversation],
    )

  test("is kept nowhere when one of its conversations was forgotten since it was looked up, nor is its key", async () => {
    const [gone] = await conversationsAt(
      own,
      [{ channel: "ferry", place: { address: "7100000009", kind: "direct" } }],
      (...of) => of.join(" "),
    )
    await rows(own, "UPDATE conversations SET forgotten_at = now() WHERE id = ?", [gone])
    const refused = await acceptIntakes(own, [call(["77", gone!, "late"], ["78", quay, "beside"])], claim).catch(
      isForgotten,
    )
    expect(refused).toBe(true)
    expect(await rows(own, "SELECT 1 FROM seen WHERE event_key IN ('77', '78')")).toEqual([])
    expect(await line(gone!)).toEqual([])
    await rows(own, "DELETE FROM work")
  })

  test("gives each conversation its positions by the order of receipt, whatever the keys, and its line whole", async () => {
    const { fresh, claimed } = await acceptIntakes(
      own,
      [call(["9", quay, "one"], ["1", holm, "other"]), call(["5", quay, "two"]), call(["2", quay, "three"])],
      claim,
    )
    expect(fresh).toHaveLength(4)
    expect(await line(quay)).toEqual(["one", "two", "three"].map((text, at) => ({ position: at + 1, words: text })))
    expect(await line(holm)).toEqual([{ position: 1, words: "other" }])
    const lines = Object.fromEntries(claimed.map((one) => [one.conversation, one.line!]))
    expect(lines[quay]!.pending.map(({ position, message }) => [position, message.text])).toEqual([
      [1, "one"],
      [2, "two"],
      [3, "three"],
    ])
    expect(lines[holm]!.pending).toHaveLength(1)
  })

  test("goes on behind what is there; what was seen before falls out and leaves no gap", async () => {
    const again = await acceptIntakes(own, [call(["5", quay, "two again"], ["7", quay, "four"])], claim)
    expect(again.fresh.map((one) => one.position)).toEqual([4])
    // Still claimed by the first batch: its holder will see that more has come, and nobody takes a second turn.
    expect(again.claimed).toEqual([expect.objectContaining({ conversation: quay, fence: 1 })])
    expect(again.claimed[0]!.line).toBeUndefined()
    expect((await line(quay)).map((one) => one.words)).toEqual(["one", "two", "three", "four"])
  })

  test("that was seen whole changes nothing but that it is on record", async () => {
    const before = await line(quay)
    const repeated = await acceptIntakes(own, [call(["7", quay, "four"])], claim)
    expect(repeated).toEqual({ fresh: [], claimed: [] })
    expect(await line(quay)).toEqual(before)
    const kept = await rows<{ keys: string[]; n: number }>(
      own,
      "SELECT event_keys AS keys, count(*) AS n FROM intakes GROUP BY event_keys ORDER BY event_keys",
    )
    expect(kept.map(({ keys, n }) => [keys.join(), n])).toEqual([
      ["2", 1],
      ["5", 1],
      ["5,7", 1],
      ["7", 1],
      ["9,1", 1],
    ])
  })

  test("is found by its words", async () => {
    expect(await rows(own, "SELECT words FROM messages WHERE search @@ to_tsquery('simple', 'oth:*')")).toEqual([
      { words: "other" },
    ])
  })
})

describe("what there is to do", () => {
  const ids = { id: newId("fgt"), message: newId("msg"), conversation: newId("cnv") }
  const at = (seconds: number) => `now() + interval '${seconds} seconds'`
  const timer = (seconds: number) =>
    `INSERT INTO timers VALUES ('${ids.id}', '${ids.conversation}', '${ids.id}', 'm', 'late', ${at(seconds)})`
  const notice = (state: string) =>
    `INSERT INTO notices (id, bot, lane, release, type, key, fingerprint, data, by, state)
     VALUES ('${ids.id}', 'tern', 'live', 'r', 'ferry.late', 'k', 'f', '{}', 'office', '${state}')`
  const recipient = (seconds: number) =>
    `INSERT INTO recipients (id, notice, rule, together, state, due_at)
     VALUES ('${ids.id}', '${ids.id}', 0, 't', 'waiting', ${at(seconds)})`
  const relay = (seconds: number, state = "waiting") =>
    `INSERT INTO relays (id, message, conversation, channel, what, to_channel, to_place, names, threads, state, due_at)
     VALUES ('${ids.id}', '${ids.message}', '${ids.conversation}', 'quay', 'said', 'desk', '1', true, false, '${state}', ${at(seconds)})`
  const media = (seconds: number) =>
    `INSERT INTO message_media (message, n, channel, ref, due_at) VALUES ('${ids.message}', 0, 'quay', 'r', ${at(seconds)})`
  const wait = (kind: string, leases: number, seconds: number) =>
    `INSERT INTO waits (conversation, message, position, kind, place, leases, due_at, until)
     VALUES ('${ids.conversation}', '${ids.message}', 1, '${kind}', 'p', ${leases}, ${at(seconds)}, ${at(60)})`
  const work = (seconds: number, holder = "NULL") =>
    `INSERT INTO work (conversation, channel, holder, due_at) VALUES ('${ids.conversation}', 'quay', ${holder}, ${at(seconds)})`
  const send = (seconds: number, channel = "quay") =>
    `INSERT INTO outbox (conversation, position, channel, message, state, due_at)
     VALUES ('${ids.conversation}', 1, '${channel}', '${ids.message}', 'waiting', ${at(seconds)})`
  const forgetting = (seconds: number, holder = "NULL") =>
    `INSERT INTO forgettings (id, contact, asked_by, asked_at, marks, conversations, looked, holder, until)
     VALUES ('${ids.id}', '${ids.id}', 'Rita', ${at(seconds)}, '[]', '{}', '{}', ${holder}, ${holder === "NULL" ? "NULL" : at(60)})`
  const handed = (told: string) =>
    `INSERT INTO conversations (id, channel, address, kind, answered_by, handed_at, told_at)
     VALUES ('${ids.conversation}', 'quay', '1', 'direct', 'person', ${at(-9)}, ${told})`

  const all = "turns claims sends timers notices relays media waits forgettings desk".split(" ") as Errand[]

  test.each<[Errand, there: string, notYet: string]>([
    ["turns", work(-1), work(5)],
    ["claims", work(20, "'me'"), work(20, "'another'")],
    ["claims", work(20, "'me'"), work(29, "'me'")],
    ["sends", send(0.5), send(5)],
    ["sends", send(-1), send(-1, "another")],
    ["timers", timer(-1), timer(1)],
    ["notices", notice("new"), notice("spread")],
    ["notices", recipient(0.5), recipient(5)],
    ["relays", relay(-1), relay(1)],
    ["relays", relay(-1), relay(-1, "shown")],
    ["media", media(-1), media(1)],
    ["waits", wait("endpoint", 0, -1), wait("endpoint", 0, 1)],
    ["waits", wait("queue", 5, -1), wait("queue", 4, -1)],
    ["forgettings", forgetting(-4), forgetting(-1)],
    ["forgettings", forgetting(-4, "'me'"), forgetting(-4, "'another'")],
    ["desk", handed("NULL"), handed(at(-1))],
  ])("%s: found by what asks for all of it at once, once its time has come", async (errand, there, notYet) => {
    const own = await mine()
    const of = { self: "me", channels: ["quay"] }
    const found = [await errandsDue(own, all, of)]
    for (const insert of [notYet, there])
      await own
        .transaction(async (step) => {
          await rows(step, insert)
          found.push(await errandsDue(step, all, of))
          throw new Error("undone")
        })
        .catch((error: Error) => expect(error.message).toBe("undone"))
    expect(found).toEqual([[], [], [errand]])
  })

  let opened: Database | undefined
  const mine = async () => (opened ??= openDatabase(await freshDatabase(), { most: 1 }))
  afterAll(() => opened?.destroy())
})
