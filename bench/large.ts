import { join } from "node:path"
import pg from "pg"
import { idAt } from "../src/store/ids.ts"
import type { ListTimes } from "./lists.ts"
import { listsOf } from "./lists.ts"
import type { MadeRecord } from "./record.ts"
import { makeRecord } from "./record.ts"
import { serve } from "./stage.ts"
import { median } from "./table.ts"

const months = 24
/** Asked so often, after once that does not count; a slow one not for longer than some seconds. */
const often = 11
const longest = 10_000

/** Every list of the API with two records, each in a database of its own, through a service that does nothing else. */
export async function measureLists(
  databases: { small: string; large: string },
  sizes: { small: number; large: number },
  home: string,
  say: (text: string) => void,
): Promise<ListTimes> {
  const times = { small: new Map<string, number>(), large: new Map<string, number>() }
  for (const size of ["small", "large"] as const) {
    const service = await serve(join(home, size), databases[size], { WOBBET_ROLES: "api" })
    try {
      say(`a record of ${sizes[size]} messages over ${months} months`)
      const record = await makeRecord(databases[size], { messages: sizes[size], months })
      say("its lists and searches")
      times[size] = await timesOf(databases[size], service, record)
    } finally {
      await service.stop()
    }
  }
  const names = [...times.large.keys()]
  const both = names.map((name) => ({ name, small: times.small.get(name)!, large: times.large.get(name)! }))
  return { ...sizes, months, times: both }
}

async function timesOf(
  databaseUrl: string,
  service: { port: number; token: string },
  record: MadeRecord,
): Promise<Map<string, number>> {
  const base = `http://127.0.0.1:${service.port}/api/v1`
  const headers = { authorization: `Bearer ${service.token}` }
  const times = new Map<string, number>()
  const time = async (name: string, ask: () => Promise<unknown>) => {
    await ask()
    const taken: number[] = []
    for (const began = performance.now(); taken.length < often && performance.now() - began < longest;) {
      const at = performance.now()
      await ask()
      taken.push(performance.now() - at)
    }
    times.set(name, median(taken))
  }
  for (const { name, path } of listsOf(record, await knownIn(databaseUrl, record))) {
    await time(name, async () => {
      const answer = await fetch(base + path, { headers })
      if (!answer.ok) throw new Error(`${path} was answered ${answer.status}: ${await answer.text()}`)
      await answer.arrayBuffer()
    })
  }
  await time("live, resumed from far back", () => firstBatch(base, headers))
  return times
}

/** What a stream tells first that was broken off thousands of transactions ago. */
async function firstBatch(base: string, headers: { [name: string]: string }): Promise<void> {
  const ended = new AbortController()
  const answer = await fetch(`${base}/live`, { headers: { ...headers, "last-event-id": "3" }, signal: ended.signal })
  let told = ""
  for await (const chunk of answer.body as unknown as AsyncIterable<Uint8Array>) {
    told += Buffer.from(chunk).toString()
    if (told.includes("event: happened")) break
  }
  ended.abort()
}

/** A message and a call in the middle of the record, and where pages begin. */
async function knownIn(databaseUrl: string, { day }: MadeRecord): Promise<Parameters<typeof listsOf>[1]> {
  const client = new pg.Client({ connectionString: databaseUrl })
  await client.connect()
  try {
    const first = async (sql: string) =>
      Object.values((await client.query<{ [column: string]: string }>(`${sql} LIMIT 1`)).rows[0]!)[0]!
    const deep = idAt("msg", day)
    const inTheMiddle = `FROM messages WHERE id > '${deep}' AND direction = 'in' ORDER BY id`
    return {
      message: await first(`SELECT id ${inTheMiddle}`),
      passage: await first(`SELECT intake ${inTheMiddle}`),
      cursors: {
        messages: await first("SELECT id FROM messages ORDER BY id DESC OFFSET 50"),
        deep,
        conversations: await first("SELECT last_id FROM work ORDER BY last_id DESC OFFSET 49"),
        passages: idAt("itk", day),
      },
    }
  } finally {
    await client.end()
  }
}
