import { createHash, randomUUID } from "node:crypto"
import type { Logger } from "pino"
import { choicesOffered } from "../../core/channels/options.ts"
import type { Place } from "../../core/message/message.ts"
import type { ReplyPart } from "../../core/message/reply.ts"
import type { NoticeEvent, NoticeRule } from "../../core/notice/notice.ts"
import type { RouteTable } from "../../core/routing/table.ts"
import type { Bell } from "../../store/bell.ts"
import type { Database } from "../../store/database.ts"
import type { MarkOf } from "../../store/directory.ts"
import type { DueRecipient, NoticeRow, RecipientChange, RecipientFate } from "../../store/notices.ts"
import { placeToTell } from "../../store/conversations.ts"
import { openQuestion } from "../../store/interviews.ts"
import { keepNotice, nextRecipient, spreadNotice, tellDue } from "../../store/notices.ts"
import { addToLine } from "../../store/outbox.ts"
import { lanesWithNotices } from "../../store/releases.ts"
import { askAgain } from "../../store/timers.ts"
import type { Channels } from "../channels.ts"
import type { Releases } from "../handlers/releases.ts"
import type { Errands } from "../process/errands.ts"
import type { Repeated } from "../process/every.ts"
import { withMentions } from "../replies/mentions.ts"
import { NotRendered } from "../replies/renderer.ts"
import type { Renderer } from "../replies/renderer.ts"
import { messageOf } from "../replies/renderPart.ts"
import { Trouble } from "../trouble.ts"
import type { Found } from "./recipients.ts"
import { foundFor, namedPeople } from "./recipients.ts"
import { wordsFor } from "./wording.ts"
import { wallClock } from "../process/wallClock.ts"

/** Recipients told in one transaction. */
const atOnce = 50
/** Milliseconds a notice with choices waits for an open question to end, and between two looks. */
const longestWait = 10 * 60_000
const lookAgain = 5000
/** Recipients that a try-out words. */
const mostTried = 20

interface Parts {
  database: Database
  channels: Channels
  releases: Releases
  renderer: Renderer
  bell: Bell
  errands: Errands
  log: Logger
  markOf: MarkOf
}

/** A notice as it would be said to somebody. */
export interface TriedNotice {
  told: {
    contact: string | null
    name: string | null
    channel: string
    conversation: string | null
    part: ReplyPart
    until?: string
  }[]
  not: { named: string; why: string; is: "unmatched" | "refused" }[]
  /** How many are told in all. */
  count: number
}

/** Tells people what happens in applications: once each, whatever process ends meanwhile. */
export class Notices {
  private repeated: Repeated | undefined

  constructor(private readonly parts: Parts) {}

  start(): void {
    const failed = "notices could not be said; it is tried again"
    this.repeated = this.parts.errands.whenDue("notices", () => this.look(), failed, "notices")
  }

  async stop(): Promise<void> {
    await this.repeated?.stop()
  }

  /**
   * Takes in what happened: kept for every bot that has a notice for it, once for its key.
   *
   * @throws Trouble where no bot has a notice for it, or its key was used for something else
   */
  async take(event: NoticeEvent, by: string, wanted: { bot?: string | undefined; lane?: string | undefined } = {}) {
    const { database, bell } = this.parts
    const bots = await this.botsFor(event.type, wanted)
    const fingerprint = createHash("sha256")
      .update(JSON.stringify([event.type, event.data]))
      .digest("hex")
    const key = event.key ?? `made ${randomUUID()}`
    const kept = []
    for (const { bot, lane, release } of bots) {
      const { type, source = null, data } = event
      const { id, was } = await keepNotice(database, { bot, lane, release, type, source, key, data, by, fingerprint })
      if (was === "other")
        throw new Trouble(
          "key-reused",
          `The key of this notice was used before for something else (${id}).`,
          "Use a new key, or a new id of the event, for each thing that happens.",
          "key",
        )
      kept.push({ id, bot, lane, known: was === "known" })
    }
    bell.ring("notices")
    return kept
  }

  /**
   * What would be said of an event, to whom. Nothing is kept, and nothing is said.
   *
   * @param database of those who only look
   */
  async tryOut(
    database: Database,
    event: NoticeEvent,
    wanted: { bot?: string | undefined; lane?: string | undefined },
  ): Promise<TriedNotice> {
    const tried: TriedNotice = { told: [], not: [], count: 0 }
    const { channels, releases } = this.parts
    for (const { bot, lane, release } of await this.botsFor(event.type, wanted))
      await releases.with(release, async (ready) => {
        for (const [, rule] of rulesOf(ready!.table, event.type))
          for (const one of await foundFor({ database, channels }, rule, { bot, lane, data: event.data }))
            await this.tryOne(database, tried, event, rule, ready!.table, one)
      })
    return tried
  }

  /** Adds one recipient to a try-out; of many only some are worded. */
  private async tryOne(
    database: Database,
    tried: TriedNotice,
    event: NoticeEvent,
    rule: NoticeRule,
    table: RouteTable,
    one: Found,
  ): Promise<void> {
    if (!("conversation" in one)) {
      tried.not.push({ named: one.named, why: one.why, is: one.is })
      return
    }
    const { contact = null, conversation, channel, place } = one
    tried.count++
    if (tried.told.length >= mostTried) return
    const at = conversation === null ? undefined : await placeToTell(database, conversation)
    if (conversation !== null && (!at || at.unwanted || at.blocked)) {
      tried.not.push({ named: at?.name ?? conversation, is: "refused", why: refusal(at) })
      tried.count--
      return
    }
    const now = wallClock("calendar")
    const people = await namedPeople(database, rule, event.data)
    const name = at?.name ?? at?.title ?? place ?? null
    const to = { contact, name, fields: at?.fields ?? {}, language: at?.language ?? null }
    const part = wordsFor(rule, table, [{ ...event, at: now, people }], to, now)
    const known = this.parts.channels.get(channel)
    const [said] = known ? await withMentions(database, [part], known) : [part]
    const until = quietUntil(rule, table, now)
    tried.told.push({ contact, name, channel, conversation, part: said!, ...(until === undefined ? {} : { until }) })
  }

  private async botsFor(type: string, { bot, lane }: { bot?: string | undefined; lane?: string | undefined }) {
    const all = (await lanesWithNotices(this.parts.database)).filter(
      (one) => (bot === undefined || one.bot === bot) && (lane === undefined ? one.lane === "live" : one.lane === lane),
    )
    const fitting = all.filter(({ types }) => types.includes(type))
    if (fitting.length > 0) return fitting
    const there = [...new Set(all.flatMap(({ types }) => types))]
    throw new Trouble(
      "bad-input",
      `No bot has a notice for the event "${type}".`,
      there.length > 0 ? `There are: ${there.join(", ")}.` : 'Write it in bot.yaml, under "notices:".',
      "type",
    )
  }

  /** Finds out whom new ones are told, and tells whoever is to be told now. */
  private async look(): Promise<void> {
    const { database, bell } = this.parts
    let news = false
    while (await spreadNotice(database, (notice, step) => this.whom(notice, step))) news = true
    for (let told = atOnce; told === atOnce;) {
      told = await tellDue(database, atOnce, (together, step) => this.tell(together, step))
      if (told > 0) {
        news = true
        bell.ring("sends")
      }
    }
    const next = await nextRecipient(database)
    if (next !== undefined && next > 0 && next < 1000)
      setTimeout(() => void this.repeated?.now().catch(() => undefined), next).unref()
    if (news) bell.ring("live")
  }

  private async whom(notice: NoticeRow, step: Database): Promise<RecipientChange[]> {
    const { bot, lane, release, type, data } = notice
    return this.parts.releases.with(release, async (ready) => {
      const changes: RecipientChange[] = []
      const now = wallClock("calendar")
      for (const [at, rule] of ready ? rulesOf(ready.table, type) : []) {
        const found = await foundFor({ ...this.parts, database: step }, rule, { bot, lane, data })
        // Those that come within a time become one; without such a time each stands alone.
        const together = rule.gather > 0 ? `${bot} ${lane} ${type} ${at}` : `${notice.id} ${at}`
        const quiet = quietUntil(rule, ready!.table, now)
        const soonest = new Date(now.getTime() + rule.gather).toISOString()
        const due = quiet !== undefined && quiet > soonest ? quiet : soonest
        changes.push(...found.map((one) => changeOf(one, at, together, due, quiet)))
      }
      return changes
    })
  }

  /** Says what is to be said in one place. */
  private async tell(together: DueRecipient[], step: Database): Promise<RecipientFate> {
    const [first] = together
    const { conversation, channel, contact } = first!
    const at = await placeToTell(step, conversation)
    if (!at || at.unwanted || at.blocked || at.forgotten) return { is: "refused", why: refusal(at) }
    const known = this.parts.channels.get(channel)
    if (!known) return { is: "failed", why: `there is no channel ${channel} any more` }
    return this.parts.releases.with(first!.release, async (ready): Promise<RecipientFate> => {
      const rule = ready?.table.bot.notices?.[first!.rule]
      if (!ready || !rule) return { is: "failed", why: "the bot has no such notice any more" }
      const now = wallClock("calendar")
      const quiet = quietUntil(rule, ready.table, now)
      if (quiet !== undefined) return { is: "later", until: quiet, why: "it is a quiet hour" }
      const question = rule.choices && (await openQuestion(step, conversation))
      if (question && first!.age < longestWait) {
        const until = new Date(now.getTime() + lookAgain).toISOString()
        return { is: "later", until, why: "a question is open there" }
      }
      const events = await Promise.all(
        together.map(async ({ type, data, at }) => ({ type, data, at, people: await namedPeople(step, rule, data) })),
      )
      const to = { ...at, contact }
      const part = wordsFor(rule, ready.table, events, to, now)
      const place: Place = {
        address: at.address,
        kind: at.kind as Place["kind"],
        ...(at.title ? { title: at.title } : {}),
        ...(at.topic ? { topic: at.topic } : {}),
      }
      try {
        const done = await this.parts.renderer.reply(await withMentions(step, [part], known), place, known)
        const impossible = done.map(({ rendered }) => rendered.impossible ?? rendered.leftOut).find(Boolean)
        if (impossible) return { is: "failed", why: `it cannot be said on ${known.row.kind}: ${impossible}` }
        const messages = done.map((one) => ({ ...messageOf(one), origin: "notice" as const, author: first!.type }))
        const offered = choicesOffered(part)
        await addToLine(step, { conversation, channel }, messages, undefined, offered.length > 0 ? offered : undefined)
        if (question) await askAgain(step, { conversation, channel, place }, question)
        return { is: "said", message: messages[0]!.id }
      } catch (error) {
        if (error instanceof NotRendered && !error.again) return { is: "failed", why: error.message }
        throw error
      }
    })
  }
}

function refusal(at: { unwanted: boolean; blocked: boolean } | undefined): string {
  if (!at) return "the conversation is not there any more"
  if (at.blocked) return "the person is blocked"
  return at.unwanted ? "they asked for nothing that starts here" : "they were forgotten"
}

function changeOf(one: Found, rule: number, together: string, due: string, quiet: string | undefined): RecipientChange {
  if ("conversation" in one)
    return {
      rule,
      contact: one.contact,
      conversation: one.conversation!,
      channel: one.channel,
      together,
      state: "waiting",
      due,
      ...(quiet === undefined ? {} : { why: "it is a quiet hour" }),
    }
  const { is, ...rest } = one
  return { rule, ...rest, together, state: is }
}

/** The bot's notices for an event, each with its place among all. */
function rulesOf({ bot }: RouteTable, type: string): [at: number, rule: NoticeRule][] {
  return (bot.notices ?? []).flatMap((rule, at): [number, NoticeRule][] => (rule.on === type ? [[at, rule]] : []))
}

/** When the quiet hours end in which a notice is not said; undefined outside of them. */
function quietUntil({ quiet }: NoticeRule, table: RouteTable, now: Date): string | undefined {
  const time = now.toISOString()
  if (!quiet) return table.quietUntil(time)
  return quiet
    .flatMap((name) => {
      const { open, closes } = table.opening(name, time) ?? { open: false }
      return open && closes ? [closes.toUTC().toISO()!] : []
    })
    .sort()
    .at(-1)
}
