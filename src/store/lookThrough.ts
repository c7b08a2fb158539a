/**
 * Lists of what may be rare in a record that may be large. There is often more than one way to what is asked for, and
 * which of them is short depends on the record: a common word stands among the newest messages, a rare one in an index.
 * So the ways are taken in turn, each some steps further, until one of them has filled the page or come to its end. All
 * of them give the same rows in the same order. When the time is over first, the list says how far it looked.
 */

/** How far one step came. */
export interface Step<Row> {
  /** In the list's order, all beyond what the step began after. */
  rows: Row[]
  /** Everything up to here was looked at; undefined where nothing lies beyond. */
  reached: string | undefined
}

/**
 * Goes on after a place of the list's order, and looks at about so many entries. Gives nothing where this way does not
 * lead there.
 */
export type Way<Row> = (after: string | undefined, many: number) => Promise<Step<Row> | undefined>

export interface Looked<Row> {
  rows: Row[]
  /** Where to go on; undefined at the end of the list. */
  next: string | undefined
  /** Set when the time was over before the page was full. */
  short: boolean
}

/** Milliseconds a list may take. */
const usualTime = 50
/** Entries a way looks at in its first step, and at most in one. */
const first = 200
const most = 3200

/** How much of a list is asked for, in whatever form. */
export interface PageAsked {
  limit: number
  /** Milliseconds after which it answers with what it has found; 50 where nothing is said. */
  within?: number
}

/**
 * @param options.after where the page before ended
 * @param options.cursor an entry's place in the order
 * @param options.descending whether places go down
 */
export async function lookThrough<Row>(
  ways: Way<Row>[],
  options: PageAsked & { after: string | undefined; cursor: (row: Row) => string; descending: boolean },
): Promise<Looked<Row>> {
  const { limit, cursor, descending, within = usualTime } = options
  const until = performance.now() + within
  let tracks = ways.map((way) => ({ way, after: options.after, rows: [] as Row[], many: first }))
  for (;;) {
    for (const track of tracks) {
      const step = await track.way(track.after, track.many)
      if (!step) {
        tracks = tracks.filter((other) => other !== track)
        continue
      }
      track.rows.push(...step.rows)
      if (track.rows.length > limit) {
        const rows = track.rows.slice(0, limit)
        return { rows, next: cursor(rows.at(-1)!), short: false }
      }
      if (step.reached === undefined) return { rows: track.rows, next: undefined, short: false }
      track.after = step.reached
      track.many = Math.min(track.many * 4, most)
    }
    if (performance.now() < until) continue
    const [furthest] = tracks.sort((a, b) => (a.after! < b.after! === descending ? -1 : 1))
    return { rows: furthest!.rows, next: furthest!.after, short: true }
  }
}
