/** A call to an endpoint, or a lease, as it stays on record. */
export interface ElsewhereCall {
  /** The endpoint's address, or the queue's name. */
  to: string
  at: string
  /** Milliseconds; of a lease, how long it lasted. */
  took?: number
  status?: number
  /** What came of it, in words. */
  came: string
  /** The beginning of what it answered, without secrets. */
  answer?: string
  /** Of a model: tokens of the request and of the answer, and what they cost. */
  tokens?: { asked: number; answered: number }
  cost?: number
  /** The passages of the facts that went along. */
  facts?: string[]
  /** The tools it wanted used, what with, and what they gave. */
  tools?: { name: string; with: string; gave: string; log?: string[] }[]
  /** Who leased it. */
  by?: string
}

/** Whom a turn asked elsewhere, and what came of it: stays on record with the turn. */
export interface ElsewhereNote {
  calls: ElsewhereCall[]
  /** Set where the turn waited. */
  waited?: { kind: string; place: string; since: string; until: string }
  /** Why the fallback was said. */
  instead?: string
}
