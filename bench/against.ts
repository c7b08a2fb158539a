import type { Wave, WaveResult } from "./load.ts"
import type { AgainstFigures, Results, Share } from "./results.ts"
import type { WobbetSubject } from "./stage.ts"

/** What one wave of messages took: milliseconds of processor time a message by part, and how long each call waited. */
export interface Taken {
  share: Share
  waits: number[]
}

/**
 * Two builds beside each other, both up at once on one database server, measured in turn: so the machine's own pace,
 * which moves from one minute to the next, is the same for both.
 *
 * @param wave sends so many messages to one of them and waits until all of that is on record
 */
export async function measureAgainst(
  subjects: { now: WobbetSubject; then: WobbetSubject },
  sizes: { rounds: number; people: number; messages: number; calm: number },
  wave: (subject: WobbetSubject, count: number, more?: Partial<Wave>) => Promise<Taken & WaveResult>,
  say: (text: string) => void,
): Promise<Omit<NonNullable<Results["against"]>, "commit">> {
  const figures: { now: AgainstFigures; then: AgainstFigures } = { now: blank(), then: blank() }
  // Everybody has written before: what is measured is a service in its stride.
  for (const subject of Object.values(subjects)) await wave(subject, sizes.people)
  for (let round = 1; round <= sizes.rounds; round++) {
    // Whoever goes first has a little less behind it in the database: that is each one's turn.
    const order = round % 2 === 1 ? (["then", "now"] as const) : (["now", "then"] as const)
    for (const which of order) {
      const { share } = await wave(subjects[which], sizes.messages)
      const calm = await wave(subjects[which], sizes.calm, { atOnce: 1, gap: 10 })
      figures[which].share.push(share)
      figures[which].calm.push(calm.share)
      figures[which].p50.push(calm.waits[Math.floor((calm.waits.length - 1) / 2)]!)
    }
    say(
      `  round ${round} of ${sizes.rounds}: ${processorOf(figures.now.share.at(-1)!).toFixed(2)} ms of processor time a message, before ${processorOf(figures.then.share.at(-1)!).toFixed(2)}`,
    )
  }
  return figures
}

const blank = (): AgainstFigures => ({ share: [], calm: [], p50: [] })

/** Milliseconds of processor time a message of the service, its hosts and the database; not of the load. */
export function processorOf({ service, hosts, postgres }: Share): number {
  return service + hosts + postgres
}
