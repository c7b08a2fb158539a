import { mentionOf } from "../../core/message/mention.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import { namedIn, valueIn } from "../../core/notice/notice.ts"
import type { NoticeRule } from "../../core/notice/notice.ts"
import type { Filling } from "../../core/routing/fillText.ts"
import { fillText, Marked } from "../../core/routing/fillText.ts"
import type { RouteTable } from "../../core/routing/table.ts"
import type { KnownPerson } from "../../store/people.ts"

/** Texts of one place that stand one below the other. */
const mostTexts = 20

/** For whom a notice is worded. */
export interface Addressee {
  contact: string | null
  name: string | null
  fields: { [field: string]: unknown }
  language: string | null
}

/** An event, and who of the people it names is known. */
export interface ToldEvent {
  type: string
  data: { [field: string]: unknown }
  at: Date
  /** By what the event calls them, in small letters. */
  people: Map<string, KnownPerson>
}

/** What is said of one event, or of several that came together. */
export function wordsFor(
  rule: NoticeRule,
  table: RouteTable,
  events: ToldEvent[],
  to: Addressee,
  now: Date,
): ReplyPart {
  const last = events.at(-1)!
  const of = (event: ToldEvent) => fillingFor(rule, table, event, to, now, events.length)
  const shown = events.slice(0, mostTexts).map((event) => fillText(rule.text, of(event)))
  const more = events.length > mostTexts ? [`… (${events.length - mostTexts})`] : []
  const text =
    events.length > 1 && rule.many !== undefined ? fillText(rule.many, of(last)) : [...shown, ...more].join("\n\n")
  if (!rule.choices || events.length > 1) return { part: "text", text }
  const choices = rule.choices.map(({ id, label, ...rest }) => ({
    ...rest,
    id: id.replace(/\{\{event\.([\w.-]{1,200})\}\}/g, (_all, path: string) => {
      const value = valueIn(last.data, path)
      return typeof value === "string" || typeof value === "number" ? String(value) : ""
    }),
    label: fillText(label, of(last)),
  }))
  return { part: "choices", text, choices }
}

function fillingFor(
  rule: NoticeRule,
  table: RouteTable,
  { type, data, at, people }: ToldEvent,
  { contact, name, fields, language }: Addressee,
  now: Date,
  count: number,
): Filling {
  const { texts = {}, language: languages, country, zone } = table.bot
  const named = Object.fromEntries(
    Object.entries(rule.people ?? {}).map(([known, path]) => {
      const [value] = namedIn(data, path)
      const person = value === undefined ? undefined : people.get(value.toLowerCase())
      const shown = person?.name ?? value ?? ""
      const mention = person ? new Marked(mentionOf(person.contact, shown)) : shown
      return [known, { name: shown, mention, fields: person?.fields ?? {} }]
    }),
  )
  const shown = name ?? ""
  const mention = contact ? new Marked(mentionOf(contact, shown)) : shown
  const time = now.toISOString()
  return {
    values: {
      event: data,
      to: { name: shown, mention, fields },
      people: named,
      notice: { count, type, at: at.toISOString() },
    },
    texts,
    spoken: language ?? undefined,
    languages,
    country,
    zone,
    now: time,
    times: 0,
    opening: (hours) => table.opening(hours, time),
  }
}
