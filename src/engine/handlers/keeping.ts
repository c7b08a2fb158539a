import type { InterviewOrder } from "../../core/interview/interviewRun.ts"
import { storableJson } from "../../core/message/graphemes.ts"
import type { Database } from "../../store/database.ts"
import { faultPoint } from "../../store/faults.ts"
import { journalOf } from "../../store/interviews.ts"
import { saidBefore } from "../../store/messages.ts"
import type { Claim } from "../../store/onces.ts"
import { beginOnce, endOnce } from "../../store/onces.ts"
import { personById } from "../../store/people.ts"
import type { Keeping, OnceKeeper } from "./handler.ts"
import { onceKey } from "./once.ts"

/** Side effects of one turn. */
const mostOnces = 200
/** Characters of a side effect's name, and of its result as JSON. */
const longestOnce = { name: 200, value: 256 * 1024 }
/** Messages that a handler may look back on. */
const mostHistory = 100

/** A turn, as far as its record has to know it. */
export interface KeptTurn {
  claim: Claim
  /** The first of its messages, and where it stands. */
  message: string
  from: number
  /** Where the last stands. */
  to: number
  contact: string | null
  /** What is to be run where the handler is an interview. */
  interview: InterviewOrder
  /** Tells apart what runs for the same turn: a model's tools, each time one is called. */
  part?: string
}

/** What code needs of the record while it runs. */
export function keepingOf(database: Database, turn: KeptTurn): Keeping {
  const { claim, from, contact, interview } = turn
  return {
    interview,
    journal: () => journalOf(database, interview.id),
    async person() {
      const found = contact === null ? undefined : await personById(database, contact)
      if (!found) return null
      const { name, tags, fields, addresses } = found
      return { name, tags, fields, addresses }
    },
    history: (count) => saidBefore(database, claim.conversation, from, Math.min(Math.max(1, count), mostHistory)),
    once: onceOf(database, turn),
  }
}

const claimLost = { refused: "this turn is another process's by now", name: "ClaimLost" }

/** Keeps a turn's side effects on record. */
export function onceOf(
  database: Database,
  { claim, message, to, interview, part = "" }: Omit<KeptTurn, "interview" | "from" | "contact"> & Partial<KeptTurn>,
): OnceKeeper {
  let begunHere = 0
  return {
    async begin(asked) {
      if (++begunHere > mostOnces) return { refused: `a turn runs ${mostOnces} side effects at most` }
      if (typeof asked.name !== "string" || asked.name.length > longestOnce.name)
        return { refused: `its name has more than ${longestOnce.name} characters` }
      const scope = asked.inInterview && interview ? interview.id : `${claim.conversation} ${message}${part}`
      const key = onceKey(scope, asked)
      const begun = await beginOnce(
        database,
        claim,
        { position: to, message },
        { key, name: asked.shown ?? asked.name },
      )
      if (FAULTS_BUILT) await faultPoint("once: start recorded")
      if (!begun) return claimLost
      if (begun.endedAt !== null) return { key, value: begun.value }
      if (begun.runs === 1 || asked.ifUnclear !== "report") return { key }
      const at = begun.startedAt.toISOString()
      return { refused: `it was begun at ${at}, and whether it was done is not known`, name: "OnceUnclear" }
    },

    async end(key, ended) {
      if (FAULTS_BUILT) await faultPoint("once: callback ended")
      if (JSON.stringify(ended).length > longestOnce.value) {
        const most = `${longestOnce.value / 1024} kB`
        return { refused: `its result has more than ${most}: keep it elsewhere, and return where it is` }
      }
      const kept = await endOnce(database, claim, key, storableJson(ended))
      if (FAULTS_BUILT) await faultPoint("once: result recorded")
      return kept ? { kept: true } : claimLost
    },
  }
}
