import { decodeTime, encodeTime, monotonicFactory } from "ulid"
import { idShift } from "./faults.ts"

/**
 * Ids are a prefix and a ULID in small letters: text that sorts by time, so that a month's rows are one range of ids
 * and a look-up by id touches one partition.
 */
export type IdPrefix =
  "msg" | "itk" | "trn" | "cnv" | "con" | "prk" | "tok" | "ses" | "aud" | "itv" | "tmr" | "fgt" | "ntc" | "rcp" | "rly"

// Ids must differ, not be guessed at: the plain generator takes a twentieth of the time of the default one, which
// asks the system for randomness sixteen times an id (6 % of all processor time under load).
const next = monotonicFactory(Math.random)

export function newId(prefix: IdPrefix): string {
  const ulid = FAULTS_BUILT && idShift !== 0 ? next(Date.now() + idShift) : next()
  return `${prefix}_${ulid.toLowerCase()}`
}

/** The smallest id that can be made at a time; ids made before it sort below. */
export function idAt(prefix: IdPrefix, time: Date): string {
  return `${prefix}_${encodeTime(time.getTime(), 10).toLowerCase()}`
}

/** When an id was made, or which time the beginning of one stands for; undefined for text that is neither. */
export function timeOf(id: string): Date | undefined {
  if (!/^[a-z]{3}_\w{10}/.test(id)) return undefined
  try {
    return new Date(decodeTime(id.slice(4, 30).padEnd(26, "0").toUpperCase()))
  } catch {
    return undefined
  }
}
