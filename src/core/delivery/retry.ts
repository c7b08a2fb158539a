/** When to try a send or a failed turn again, in milliseconds from now; nothing once it should be parked. */
export function retryAfter(tries: number, limit: number, random: () => number): number | undefined {
  if (tries >= limit) return undefined
  // Full jitter: anything up to the doubled ceiling, so that many failures at once do not come back at once.
  const ceiling = Math.min(1000 * 2 ** (tries - 1), 120_000)
  return Math.round(200 + random() * ceiling)
}

/** A reply is tried for about ten minutes, a handler three times. */
export const sendTries = 10
export const turnTries = 3
