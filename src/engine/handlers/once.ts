import { createHash } from "node:crypto"
import type { Person, Said } from "../../sdk/index.ts"

/** A side effect, as whoever keeps its record is asked about it. */
export interface OnceAsked {
  name: string
  /** The name as it may stand on record, where a secret stands in it. */
  shown?: string
  /** Which of its name it is, counted from 1, and how often the person went back behind it. */
  nth: number
  round: number
  ifUnclear?: "report" | undefined
  /** Whether its key is the interview's, or the message's. */
  inInterview?: boolean
}

/** What runs side effects and keeps them on record. */
export type OnceRunner = (asked: OnceAsked, run: (key: string) => unknown) => Promise<{ key: string; value: unknown }>

/** A callback of `once` that threw, as it is on record. */
export class OnceThrew extends Error {
  constructor(
    readonly key: string,
    readonly threw: { name: string; message: string },
    cause: unknown,
  ) {
    super(threw.message, { cause })
    this.name = threw.name
  }
}

/** Whether a side effect may run, and with which key; or what came of it before; or why it may not. */
export type OnceAnswer =
  | { key: string }
  | { key: string; value: unknown }
  | { kept: true }
  | { history: Said[] }
  | { person: Person | null }
  | { refused: string; name?: string }

/** What came of a side effect. */
export type OnceEnded = { value: unknown } | { threw: { name: string; message: string } }

/** A key for a side effect, the same whenever it runs again. */
export function onceKey(scope: string, { name, nth, round }: OnceAsked): string {
  return `once_${createHash("sha256")
    .update(JSON.stringify([scope, name, nth, round]))
    .digest("hex")
    .slice(0, 32)}`
}
