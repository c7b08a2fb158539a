import fc from "fast-check"
import { hotRows, openDatabase, rows } from "../src/store/database.ts"
import type { Database } from "../src/store/database.ts"
import * as first from "../src/store/migrations/0001-first.ts"
import * as fewerRows from "../src/store/migrations/0002-fewer-rows.ts"
import { batch } from "../src/store/unnest.ts"
import { freshDatabase } from "./support/harness.ts"

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
  const old = openDatabase(await freshDatabase(), { most: 1 })
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
  await old.destroy()
})
