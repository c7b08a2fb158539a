const RealDate = Date
const realRandom = Math.random.bind(Math)

let frozen: number | undefined
let dice: (() => number) | undefined

/** The clock and the dice of an interview's step: the same whenever it is run from its journal. */
export const stepTime = {
  /** Lets `Date` and `Math.random` obey, once for the whole process. */
  install(): void {
    globalThis.Date = new Proxy(RealDate, {
      construct: (target, given: unknown[], as) =>
        Reflect.construct(target, given.length === 0 && frozen !== undefined ? [frozen] : given, as) as object,
      apply: (target) => (frozen === undefined ? target() : new RealDate(frozen).toString()),
      get: (target, name, self) =>
        name === "now" ? () => frozen ?? RealDate.now() : (Reflect.get(target, name, self) as unknown),
    })
    Math.random = () => (dice ? dice() : realRandom())
  },

  real: () => new RealDate(),

  /** Runs something that does not wait, at a time, with dice that fall by which interview and which step it is. */
  within<T>(at: number, id: string, n: number, run: () => T): T {
    const before = [frozen, dice] as const
    frozen = at
    dice = diceFor(`${id} ${n}`)
    try {
      return run()
    } finally {
      ;[frozen, dice] = before
    }
  },
}

/** Numbers from 0 to 1 that follow from a word (mulberry32, seeded by FNV-1a). */
function diceFor(word: string): () => number {
  let seed = 2166136261
  for (let at = 0; at < word.length; at++) seed = Math.imul(seed ^ word.charCodeAt(at), 16777619)
  return () => {
    seed = (seed + 0x6d2b79f5) | 0
    let mixed = Math.imul(seed ^ (seed >>> 15), 1 | seed)
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4294967296
  }
}
