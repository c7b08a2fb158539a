import type pg from "pg"
import { listsOf } from "../../bench/lists.ts"
import type { Asked } from "../../bench/lists.ts"
import { makeRecord } from "../../bench/record.ts"
import type { MadeRecord } from "../../bench/record.ts"
import { listConversations, listPeople } from "../../src/store/conversations.ts"
import type { Database } from "../../src/store/database.ts"
import { openDatabase, rows } from "../../src/store/database.ts"
import { beginForgetting, firstCall, lookOn, progressOf } from "../../src/store/forgetting.ts"
import { idAt, newId } from "../../src/store/ids.ts"
import { listIntakes } from "../../src/store/intakeReads.ts"
import { happenings } from "../../src/store/live.ts"
import { findMessages } from "../../src/store/messageLists.ts"
import type { MessageRow } from "../../src/store/messages.ts"
import { messagesById, messagesOfConversation, sentToday } from "../../src/store/messages.ts"
import { listParked } from "../../src/store/parked.ts"
import { freshDatabase } from "../support/harness.ts"

/** A record over two years, and what lists are asked of it. */
interface Kept {
  database: Database
  record: MadeRecord
  lists: Asked[]
}

let small: Kept
let large: Kept
const opened: Database[] = []
beforeAll(async () => {
  small = await kept(2_000)
  large = await kept(60_000)
})
afterAll(() => Promise.all(opened.map((database) => database.destroy())))

async function kept(messages: number): Promise<Kept> {
  const url = await freshDatabase()
  const record = await makeRecord(url, { messages, months: 24 })
  const database = openDatabase(url, { most: 1 })
  opened.push(database)
  const [known] = await rows<{ message: string; passage: string }>(
    database,
    `SELECT id AS message, intake AS passage FROM messages WHERE id > '${idAt("msg", record.day)}' AND direction = 'in' ORDER BY id LIMIT 1`,
  )
  const [newest] = (await findMessages(database, { limit: 1 })).rows
  const [spoken] = (await listConversations(database, { limit: 1 })).rows
  const cursors = {
    messages: newest!.id,
    deep: idAt("msg", record.day),
    conversations: spoken!.lastMessage!,
    passages: idAt("itk", record.day),
  }
  return { database, record, lists: listsOf(record, { ...known!, cursors }) }
}

/** A list's own way through to the end, however long it takes; and one that has no time at all. */
const takesItsTime = { limit: 50, within: Infinity }
const hasNoTime = { limit: 50, within: 0 }

/** Asks the store what a call of the API asks it; gives the ids of a page, and where the next begins. */
async function ask(database: Database, { path }: Asked, page: { limit: number; within: number }, after?: string) {
  const url = new URL(path, "http://wobbet")
  const { cursor = after, ...given } = Object.fromEntries(url.searchParams) as { [name: string]: string }
  const below = cursor === undefined ? {} : { below: after ?? cursor }
  const [, list, id, part] = url.pathname.split("/")
  const flag = (name: string) => (given[name] === undefined ? {} : { [name]: given[name] === "true" })
  switch (list) {
    case "messages": {
      if (id) return { ids: (await messagesById(database, [id])).map((row) => row.id), next: undefined }
      const times = {
        ...(given.from ? { from: new Date(given.from) } : {}),
        ...(given.to ? { to: new Date(given.to) } : {}),
      }
      const found = await findMessages(database, {
        ...given,
        ...times,
        ...flag("doubtful"),
        ...below,
        ...page,
      } as never)
      return { ids: found.rows.map((row) => row.id), next: found.next }
    }
    case "conversations": {
      if (part) {
        const at = cursor === undefined ? {} : { below: Number(cursor) }
        const found = await messagesOfConversation(database, id!, { ...at, limit: page.limit })
        return { ids: found.map((row) => row.id), next: undefined }
      }
      const found = await listConversations(database, { ...given, ...below, ...page })
      return { ids: found.rows.map((row) => row.id), next: found.next }
    }
    case "people": {
      const found = await listPeople(database, { ...given, ...(after ? { after } : {}), ...page })
      return { ids: found.rows.map((row) => `${row.channel} ${row.address}`), next: found.next }
    }
    case "passages": {
      if (id) return { ids: [id], next: undefined }
      const found = await listIntakes(database, { ...given, ...flag("genuine"), ...flag("quiet"), ...below, ...page })
      return { ids: found.rows.map((row) => row.id), next: found.next }
    }
    case "parked": {
      const found = await listParked(database, { ...given, ...flag("open"), ...below, limit: page.limit })
      return { ids: found.map((row) => row.id), next: undefined }
    }
    default:
      return { ids: [], next: undefined }
  }
}

/** Every page of a list, one after the other. */
async function all(database: Database, asked: Asked, page: typeof hasNoTime, from?: string): Promise<string[]> {
  const ids: string[] = []
  let after = from
  do {
    const found = await ask(database, asked, page, after)
    ids.push(...found.ids)
    after = found.next
  } while (after !== undefined)
  return ids
}

test("page by page every list of messages gives what is in the record and meets its conditions, each once", async () => {
  const { database, lists } = small
  const every = await rows<{ id: string }>(database, "SELECT id FROM messages ORDER BY id DESC")
  const shown = await messagesById(
    database,
    every.map((row) => row.id),
  )
  const record = shown.reverse()
  const differing: string[] = []
  let many = 0
  for (const asked of lists.filter(({ path }) => path.startsWith("/messages?"))) {
    const wanted = record.filter(meets(new URL(asked.path, "http://wobbet").searchParams)).map((row) => row.id)
    const found = await all(database, asked, takesItsTime)
    // Whatever a list breaks off at for want of time, the next page goes on from there.
    const inPieces = (await all(database, asked, hasNoTime)).join()
    if (inPieces !== wanted.join()) differing.push(`${asked.name}, in pieces`)
    many += wanted.length > 0 ? 1 : 0
    if (found.join() !== wanted.join()) differing.push(`${asked.name}: ${found.length} instead of ${wanted.length}`)
    // From a time, as a list gives it that has run out of its own, and from a message of whatever conversation.
    if (asked.path.includes("cursor=")) continue
    for (const from of [idAt("msg", small.record.day), every[700]!.id]) {
      const below = (await all(database, asked, hasNoTime, from)).join()
      if (below !== wanted.filter((id) => id < from).join()) differing.push(`${asked.name}, below ${from}`)
    }
  }
  expect(differing).toEqual([])
  expect(many).toBeGreaterThan(25)
})

test("pages of a conversation follow its line, where ids were made in another order than places were given", async () => {
  const { database, record } = small
  const { large: conversation } = record
  const line = async () => {
    const sql = `SELECT id FROM messages WHERE conversation = '${conversation}' ORDER BY position DESC`
    return (await rows<{ id: string }>(database, sql)).map((row) => row.id)
  }
  await rows(database, "BEGIN")
  try {
    const before = await line()
    // Of every five messages the last comes first.
    await rows(
      database,
      `UPDATE messages SET position = position + CASE WHEN position % 5 = 4 THEN -4 ELSE 1 END WHERE conversation = '${conversation}'`,
    )
    const wanted = await line()
    expect(wanted).not.toEqual(before)
    const shown = new Map((await messagesById(database, wanted)).map((row) => [row.id, row]))
    for (const query of ["", "&direction=in", "&status=handled", "&status=failed", "&doubtful=true"]) {
      const path = `/messages?conversation=${conversation}${query}`
      const fits = meets(new URL(path, "http://wobbet").searchParams)
      const fitting = wanted.filter((id) => fits(shown.get(id)!))
      for (const page of [3, 4, 50])
        expect([query, await all(database, { name: query, path }, { limit: page, within: Infinity })]).toEqual([
          query,
          fitting,
        ])
    }
  } finally {
    await rows(database, "ROLLBACK")
  }
})

/** The same conditions, by going through all of them. */
function meets(query: URLSearchParams): (row: MessageRow) => boolean {
  const words = query.get("text")?.match(/[\p{L}\p{N}]+/gu)
  const tests: { [name: string]: (row: MessageRow, value: string) => boolean } = {
    cursor: (row, value) => row.id < value,
    doubtful: (row, value) => row.doubtful === (value === "true"),
    from: (row, value) => row.receivedAt >= new Date(value),
    to: (row, value) => row.receivedAt < new Date(value),
    text: (row, value) => {
      const said = row.text.toLowerCase().match(/[\p{L}\p{N}]+/gu) ?? []
      return words ? words.every((word) => said.some((one) => one.startsWith(word))) : row.text.includes(value)
    },
  }
  const plain = (name: string) => (row: MessageRow, value: string) => row[name as keyof MessageRow] === value
  return (row) => [...query].every(([name, value]) => (tests[name] ?? plain(name))(row, value))
}

test("conversations, people and passages come whole and each once, page by page and piece by piece", async () => {
  const { database, lists } = small
  for (const asked of lists.filter(({ path }) => /^\/(conversations|people|passages)(\?|$)/.test(path))) {
    const whole = await all(database, asked, { limit: 10_000, within: Infinity })
    expect([asked.name, new Set(whole).size]).toEqual([asked.name, whole.length])
    for (const page of [takesItsTime, hasNoTime])
      expect([asked.name, await all(database, asked, page)]).toEqual([asked.name, whole])
  }
})

test("a name is found by any part of it, in whatever case, and what looks like a pattern is only text", async () => {
  const { database } = small
  const people = async (text: string) => (await listPeople(database, { text, limit: 50 })).rows.length
  const titled = async (text: string) => (await listConversations(database, { text, limit: 50 })).rows.length
  const [counted] = await rows<{ n: number }>(
    database,
    "SELECT count(*) AS n FROM addresses WHERE name LIKE '%Okonkwo'",
  )
  expect([counted!.n, await people("KONK"), await titled("konkwo")]).toEqual([1, 1, 1])
  expect([await people("Okon%wo"), await titled("_konkwo"), await people("o_"), await titled("%")]).toEqual([
    0, 0, 0, 0,
  ])
})

/** What looks through a time limit's worth of the record: nothing says where such words stand. */
const looksAround = /\?\?\?|!!!|short name|read|delivered|sent|handled/

test("no list walks through the record: twenty times as much of it costs no list more pages of the database", async () => {
  const walked: string[] = []
  for (const [at, asked] of large.lists.entries()) {
    if (looksAround.test(asked.name)) continue
    const before = await pagesOf(small.database, () => ask(small.database, small.lists[at]!, takesItsTime))
    const now = await pagesOf(large.database, () => ask(large.database, asked, takesItsTime))
    // A list with next to nothing in the small record may fill a page from the large one.
    if (now > Math.max(2 * before, fullPage)) walked.push(`${asked.name}: ${before} became ${now}`)
  }
  expect(walked).toEqual([])
})

/** Pages of 8 kB, nearly all of them in memory, that a page of fifty messages takes when they are spread over months. */
const fullPage = 4000

test("one who resumes from far back is told everything once, and at once where one transaction did more than a batch", async () => {
  const { database } = small
  await rows(database, "UPDATE messages SET xid = '2' WHERE direction = 'in'")
  const told: string[] = []
  let [cursor, more, batches] = ["2", true, 0]
  while (more) {
    const batch = await happenings(database, cursor, 500)
    told.push(...batch.items.map(({ what, message, outcome }) => `${what} ${message} ${outcome}`))
    ;[cursor, more] = [batch.cursor, batch.more]
    batches++
  }
  const [happened] = await rows<{ n: number }>(
    database,
    `SELECT (SELECT count(*) FROM messages) + (SELECT count(*) FROM turns) + (SELECT count(*) FROM attempts)
       + (SELECT count(*) FROM statuses) + (SELECT count(*) FROM parked) AS n`,
  )
  expect(batches).toBeGreaterThan(5)
  expect(new Set(told).size).toBe(told.length)
  expect(told.length).toBe(happened!.n)
})

test("what was sent today is counted without reading what was sent before", async () => {
  const count = ({ database, record }: Kept) => sentToday(database, record.busy, new Date())
  const before = await pagesOf(small.database, () => count(small))
  const now = await pagesOf(large.database, () => count(large))
  expect(now).toBeLessThan(Math.max(2 * before, 1000))
  const [sent] = await rows<{ n: number }>(
    large.database,
    `SELECT count(DISTINCT a.message) AS n FROM attempts a JOIN messages m ON m.id = a.message
     WHERE m.channel = ? AND a.started_at >= date_trunc('day', now() AT TIME ZONE 'UTC') AT TIME ZONE 'UTC'`,
    [large.record.busy],
  )
  expect(await count(large)).toBe(sent!.n)
})

/** How many pages PostgreSQL touches for everything that is asked in between. */
async function pagesOf(database: Database, asking: () => Promise<unknown>): Promise<number> {
  const client = database.client as {
    acquireConnection(): Promise<pg.Client>
    releaseConnection(connection: pg.Client): Promise<void>
  }
  const connection = await client.acquireConnection()
  await client.releaseConnection(connection)
  const query = connection.query.bind(connection) as (asked: unknown, ...more: unknown[]) => Promise<unknown>
  let pages = 0
  const counted = async (asked: unknown, ...more: unknown[]) => {
    const { text, values } = typeof asked === "string" ? { text: asked, values: more[0] } : (asked as pg.QueryConfig)
    if (/^\s*(SELECT|WITH)/.test(text)) {
      const explained = (await query({ text: `EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON) ${text}`, values })) as {
        rows: { "QUERY PLAN": { Plan: { [count: string]: number } }[] }[]
      }
      const { Plan: plan } = explained.rows[0]!["QUERY PLAN"][0]!
      pages += plan["Shared Hit Blocks"]! + plan["Shared Read Blocks"]!
    }
    return query(asked, ...more)
  }
  connection.query = counted as never
  try {
    await asking()
  } finally {
    connection.query = query as never
  }
  return pages
}

// The last: the record is not the same afterwards.
test("somebody is forgotten over two years, piece by piece, and nobody else is touched", async () => {
  const { database, record } = large
  const of = (where: string) =>
    rows<{ n: number }>(database, `SELECT count(*)::int AS n FROM messages WHERE ${where}`).then(([row]) => row!.n)
  const own = await of(`conversation = '${record.large}'`)
  const others = await of(`conversation <> '${record.large}' AND words <> ''`)
  const all = await of("true")
  const markOf = (...parts: string[]) => parts.join(" ")
  const at = new Date()
  let row = (await beginForgetting(database, { id: newId("fgt"), contact: "con_0", by: "a test", at, markOf }))!
  const first = (await firstCall(database))!
  const seen: number[] = [progressOf(row, first)]
  while (row.endedAt === null) {
    row = await lookOn(database, row)
    seen.push(progressOf(row, first))
  }
  expect(seen).toEqual([...seen].sort((a, b) => a - b))
  expect([seen[0], seen.at(-1)]).toEqual([0, 1])
  expect(seen.length).toBeGreaterThan(10)
  expect((row.removed.said ?? 0) + (row.removed.answered ?? 0)).toBe(own)
  expect(await of(`conversation = '${record.large}' AND event = 'forgotten' AND words = '' AND search = ''`)).toBe(own)
  expect(await of(`conversation <> '${record.large}' AND words <> ''`)).toBe(others)
  expect(await of("true")).toBe(all)
  const naming = "SELECT 1 FROM intakes WHERE position('\"44790\"'::bytea IN body) > 0 LIMIT 1"
  expect(await rows(database, naming)).toEqual([])
}, 120_000)
