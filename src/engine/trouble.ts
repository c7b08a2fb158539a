/** The catalogue of what can be asked for and not be had: a code, a status, what happened, and what to do. */
export class Trouble extends Error {
  constructor(
    readonly code: keyof typeof catalogue,
    message: string,
    readonly remedy: string,
    /** The field that is wrong, where one is. */
    readonly field?: string,
    /** Seconds after which it is worth another try. */
    readonly retryAfter?: number,
  ) {
    super(message)
  }

  get status(): number {
    return catalogue[this.code].status
  }

  get title(): string {
    return catalogue[this.code].title
  }
}

export const catalogue = {
  "not-signed-in": { status: 401, title: "Not signed in" },
  "not-allowed": { status: 403, title: "Not allowed" },
  "not-found": { status: 404, title: "Not found" },
  "bad-input": { status: 400, title: "Bad input" },
  taken: { status: 409, title: "Already there" },
  over: { status: 409, title: "The turn is over" },
  decided: { status: 409, title: "Already decided" },
  "key-reused": { status: 422, title: "Idempotency key used for something else" },
  "opted-out": { status: 409, title: "The person wants no more messages" },
  forgotten: { status: 410, title: "The person was forgotten" },
  "cannot-be-said": { status: 422, title: "Cannot be said on this channel" },
  "provider-refused": { status: 502, title: "The provider refused" },
  "too-many": { status: 429, title: "Too many at once" },
  changed: { status: 412, title: "Changed meanwhile" },
  "no-such-method": { status: 405, title: "Not done this way" },
  full: { status: 503, title: "Full" },
  "too-slow": { status: 503, title: "It took too long" },
  "database-away": { status: 503, title: "The database is away" },
} as const

export function notFound(what: string, id: string, remedy: string): Trouble {
  return new Trouble("not-found", `There is no ${what} "${id}".`, remedy)
}
