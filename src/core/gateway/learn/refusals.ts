import { readAnswer } from "../../channels/graphErrors.ts"
import type { Conditions } from "../profile.ts"
import { refusedIn } from "../judge.ts"
import { flat } from "./sample.ts"

const taken = /^(ok|okay|success|successful|sent|accepted|queued|done)$/i
const failed = ["error", "failed", "failure", "fail", "rejected", "nok"]

/** What gateways answer, whatever the status code, where they have not taken a message. */
export const usualRefusals: Conditions = {
  "/ok": [false],
  "/success": [false],
  "/error": [true],
  "/status": [...failed],
  "/result": [...failed],
}

/**
 * What in an answer tells that a message was refused, from an example of it, whether of one that was taken or not: a yes or
 * no, a word, or an error. Nothing where the example has none of the usual names.
 *
 * @param answer JSON or XML
 */
export function refusalsIn(answer: string): Conditions {
  const found: Conditions = {}
  for (const { where, value } of flat(readAnswer(answer), "")) {
    const [last = "", ...above] = where.split("/").reverse()
    if (above.length > 2) continue
    if (/^(is_?)?(ok|success(ful)?|sent|accepted|valid)$/i.test(last)) {
      if (/^(true|false)$/i.test(value)) found[where] = [false]
      else if (/^[01]$/.test(value)) found[where] = ["0"]
    } else if (/^(has_?)?(error|err)$/i.test(last)) found[where] = [true]
    else if (/^error$/i.test(above[0] ?? "")) found[above.reverse().join("/")] = [true]
    else if (
      /^(status|result|state|outcome)$/i.test(last) &&
      (taken.test(value) || failed.includes(value.toLowerCase()))
    )
      found[where] = [...failed]
  }
  return found
}

/**
 * What an answer seems to refuse, although the profile by which it counts as taken does not say so.
 *
 * @param refused as the profile has it
 * @returns the places to name in the profile, and the answer's own words
 */
export function unreadRefusal(
  answer: string,
  refused: Conditions | undefined,
): { refused: Conditions; says: string } | undefined {
  const source = { json: readAnswer(answer) }
  if (refused !== undefined || source.json === undefined) return undefined
  const found = { ...usualRefusals, ...refusalsIn(answer) }
  for (const [where, values] of Object.entries(found)) {
    const says = refusedIn(source, { [where]: values }, {})
    if (says !== undefined) return { refused: { [where]: values }, says }
  }
  return undefined
}
