import { LRUCache } from "lru-cache"
import type { RoutesView, RouteView, UnroutedGroup } from "../../client/types.ts"
import type { Message } from "../../core/message/message.ts"
import type { Condition } from "../../core/routing/condition.ts"
import { groupsOf } from "../../core/routing/likeness.ts"
import { noteInWords } from "../../core/routing/noteWords.ts"
import type { RouteNote } from "../../core/routing/overlap.ts"
import { notesOf } from "../../core/routing/overlap.ts"
import { unroutedCases } from "../../core/routing/unrouted.ts"
import type { Engine } from "../../engine/engine.ts"
import { handlerOf } from "../../engine/handlers/registry.ts"
import { tableOf } from "../../engine/handlers/tables.ts"
import { notFound } from "../../engine/trouble.ts"
import { findMessages } from "../../store/messageLists.ts"
import type { MessageRow } from "../../store/messages.ts"
import { newestRelease, releaseById } from "../../store/releases.ts"
import type { RouteTally } from "../../store/tally.ts"
import { talliesOf } from "../../store/tally.ts"

/** Steps of a chart. */
const steps = 28

/** Comparing the routes of a large bot takes a second or two: what a release came to is kept. */
const noted = new LRUCache<string, RouteNote[]>({ max: 5 })

/** The routes of the release that answers, in order, with what each did lately. */
export async function routesView(engine: Engine, days: number): Promise<RoutesView> {
  const id = await newestRelease(engine.reading)
  const release = id ? await releaseById(engine.reading, id) : undefined
  if (!release) throw notFound("release", "live", 'Start the service with "wobbet serve --bot <folder>".')
  const table = tableOf(release)
  const { bot } = table
  const step = (days * 24) / steps
  const tallies = new Map((await talliesOf(engine.reading, bot.bot, steps, step)).map((tally) => [tally.route, tally]))
  const all = [...tallies.values()].reduce((sum, { hits }) => sum + hits, 0)
  let notes = noted.get(release.id)
  if (!notes) noted.set(release.id, (notes = notesOf(table)))
  const known = new Set(["", ...bot.routes.map(({ name }) => name)])
  const gone = [...tallies.keys()].filter((name) => !known.has(name))
  const whoAnswers = unroutedCases(bot.unrouted).map(({ handler }) => handlerOf(handler).name)
  return {
    bot: bot.bot,
    release: release.id,
    days,
    routes: [
      ...bot.routes.map((route): RouteView => {
        const note = notes.filter(({ route: name }) => name === route.name).map(noteInWords)
        return {
          ...doneBy(route.name, tallies.get(route.name), all),
          when: whenInWords(route.when),
          handler: handlerOf(route.handler).name,
          notes: note.map(({ says, remedy }) => ({ says, ...(remedy ? { remedy } : {}) })),
        }
      }),
      ...gone.map((name) => ({ ...doneBy(name, tallies.get(name), all), gone: true as const, notes: [] })),
    ],
    unrouted: { ...doneBy("", tallies.get(""), all), handler: [...new Set(whoAnswers)].join(", "), notes: [] },
  }
}

function doneBy(route: string, tally: RouteTally | undefined, all: number): Omit<RouteView, "notes"> {
  const turns = (tally?.hits ?? 0) + (tally?.failures ?? 0)
  return {
    route,
    hits: tally?.hits ?? 0,
    share: all === 0 ? 0 : (tally?.hits ?? 0) / all,
    failures: tally?.failures ?? 0,
    mean: turns === 0 ? null : (tally?.milliseconds ?? 0) / turns,
    slowest: tally?.slowest ?? null,
    lastAt: tally?.lastAt.toISOString() ?? null,
    chart: tally?.chart ?? Array<number>(steps).fill(0),
  }
}

/** A condition on a line, as its author wrote it. */
function whenInWords(when: Condition): string {
  const said = (value: unknown): string => {
    if (Array.isArray(value)) return value.map(said).join(" or ")
    if (typeof value !== "object" || value === null) return String(value)
    return whenInWords(value as Condition)
  }
  return Object.entries(when)
    .map(([name, wanted]) => {
      if (name === "any" || name === "all")
        return (wanted as Condition[]).map(whenInWords).join(name === "any" ? " or " : " and ")
      return `${name} ${said(wanted)}`
    })
    .join(", ")
}

/** Messages that are looked at for groups, and requests in which they are found. */
const mostLooked = 1000
const mostRequests = 10
/** Groups, and messages of each, that are shown. */
const mostGroups = 30
const mostShown = 20

/** What no route took lately, grouped by likeness, the largest group first. */
export async function unroutedGroups(
  engine: Engine,
  days: number,
): Promise<{ looked: number; whole: boolean; items: UnroutedGroup[] }> {
  const from = new Date(Date.now() - days * 86_400_000)
  const rows: MessageRow[] = []
  let below: string | undefined
  // One request of a list ends after its time; some follow each other here.
  for (let n = 0; n < mostRequests && rows.length < mostLooked && (n === 0 || below !== undefined); n++) {
    const asked = { status: "unrouted", direction: "in" as const, from, limit: mostLooked }
    const found = await findMessages(engine.reading, { ...asked, ...(below === undefined ? {} : { below }) })
    rows.push(...found.rows)
    below = found.next
  }
  const said = rows.slice(0, mostLooked).flatMap((row) => {
    const { event, text } = row.body as unknown as Message
    return event === "text" && text ? [{ id: row.id, text, row }] : []
  })
  const items = groupsOf(said)
    .slice(0, mostGroups)
    .map(({ items, phrase }): UnroutedGroup => ({
      count: items.length,
      people: new Set(items.map(({ row }) => row.conversation)).size,
      lastAt: items[0]!.row.receivedAt.toISOString(),
      ...(phrase === undefined ? {} : { phrase }),
      messages: items.slice(0, mostShown).map(({ id, text, row }) => ({
        id,
        text: text.slice(0, 300),
        conversation: row.conversation,
        receivedAt: row.receivedAt.toISOString(),
      })),
    }))
  return { looked: said.length, whole: below === undefined && rows.length <= mostLooked, items }
}
